import type { OneConsumer, Difference, LookOperation, Looked, Overview, Trace } from "../api/schema";

const traffic = { calls: 0, refused: 0, failed: 0, p50_us: 0, p99_us: 0 };

export const overview: Overview = {
  environment: "live",
  release: 3,
  made_by: "inge",
  made_at: 1_793_000_000_000,
  gateway: "http://127.0.0.1:3821",
  from_disk: false,
  trouble: "",
  unreleased: [],
  unreleased_offers: [],
  open_requests: 0,
  errors: 0,
  now: { calls: 120, refused: 7, failed: 2, p50_us: 900, p99_us: 12_000 },
  before: traffic,
  minutes: Array.from({ length: 60 }, (_, i) => ({ minute: i, calls: i, refused: 0, failed: 0 })),
  paused: [],
  lost_records: 0,
};

export const difference = (facade: string, more: Partial<Difference> = {}): Difference => ({
  facade,
  status: "changed",
  changes: [],
  files: {},
  ...more,
});

export const operation = (id: string, more: Partial<LookOperation> = {}): LookOperation => ({
  id,
  method: "GET",
  path: `/${id}`,
  source: id,
  style: "SOAP 1.1 document/literal",
  available: true,
  why: "",
  losses: [],
  reason: "it reads",
  documentation: "",
  inputs: [],
  outputs: [],
  faults: [],
  ...more,
});

export const looked = (operations: LookOperation[], more: Partial<Looked> = {}): Looked => ({
  kind: "soap",
  title: "CargoDesk",
  documentation: "Books cargo.",
  addresses: ["http://cargo.example/desk"],
  ports: [],
  operations,
  findings: [],
  described: {},
  offers: [],
  notes: [],
  ...more,
});

export const consumer: OneConsumer = {
  name: "Tide Clock",
  owner: "a hobby project",
  roles: ["pilot"],
  labels: [],
  bound: false,
  passwords: [],
  clients: [],
  signing_keys: [{ keyid: "clock-1", kind: "Ed25519", created_at: 0 }],
  certificates: [{ known_by: "dns:clock.example", created_at: 0 }],
  agreements: [
    {
      id: 3,
      consumer: "Tide Clock",
      offer: "Open Quay",
      terms: { requests: 7 },
      from_at: 0,

      paused: false,
    },
  ],
  calls: [{ facade: "sailings", operation: "quoteFare", calls: 12 }],
  paused: false,
  created_at: 0,
  keys: [
    { prefix: "ep_abc", label: "first", paused: false, created_at: 0 },
    { prefix: "ep_old", label: "old", paused: false, created_at: 0, ends_at: 1 },
  ],
};

export const trace: Trace = {
  id: "4bf92f3577b34da6a3ce929d0e0e4736",
  at: 0,
  release: 1,
  facade: "sailings",
  operation: "quoteFare",
  consumer: 1,
  consumer_name: "Tide Clock",
  key: "ep_abc",
  address: "127.0.0.1",
  method: "GET",
  target: "/sailings/v2/fares/FAR-MAR/foot",
  status: 200,
  us: 1500,
  stages: [{ name: "match", from_us: 0, us: 1, notes: ["quoteFare"] }],
};
