/** Shapes that the API document leaves open: they come from the core as they are. */
export interface Finding {
  severity: "note" | "warning" | "error";
  file: string;
  line: number;
  column: number;
  message: string;
  help: string;
}

export interface Change {
  harm: "breaks" | "adds" | "tells";
  operation: string;
  what: string;
}

export interface Row {
  caller: string;
  caller_type: string;
  what: string;
  backend: string;
  backend_type: string;
  required: boolean;
}

export interface OperationTable {
  request: Row[];
  reply: Row[];
  sample: { path: Record<string, unknown>; query: Record<string, unknown>; body?: unknown };
}

export interface Rule {
  stage: string;
  rule: string;
  reach: string;
  file: string;
  line: number;
}

export interface Message {
  head: string;
  headers: [string, string][];
  body: string;
  bytes: number | null;
}

export interface Stage {
  name: string;
  from_us: number;
  us: number;
  notes: string[];
  before: Message | null;
  after: Message | null;
}

export interface Trace {
  id: string;
  at: number;
  release: number;
  facade: string;
  operation: string;
  consumer_name: string;
  key: string;
  address: string;
  method: string;
  target: string;
  status: number;
  us: number;
  refusal: { stage: string; why: string; rule: string; reach: string; file: string; line: number } | null;
  stages: Stage[];
}

export interface LookField {
  name: string;
  type: string;
  required: boolean;
}

export interface Look {
  kind: string;
  title: string;
  documentation: string;
  addresses: string[];
  ports: { service: string; name: string; binding: string; version: string | null; address: string }[];
  notes: string[];
  operations: {
    id: string;
    method: string;
    path: string;
    source: string;
    style: string;
    available: boolean;
    why: string;
    losses: string[];
    reason: string;
    documentation: string;
    inputs: LookField[];
    outputs: LookField[];
    faults: string[];
  }[];
  findings: { severity: string; message: string; where: string; help: string }[];
}

export interface AuditLine {
  id: number;
  at: number;
  who: string;
  what: string;
  object: string;
  detail: Record<string, unknown>;
}
