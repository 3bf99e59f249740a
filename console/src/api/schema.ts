// Written by `cargo xtask api` from the publisher's API. Do not edit.

export interface AccountView {
  name: string;
  role: string;
  created_at: number;
}

export interface CheckRequest {
  /** Files to put over the draft's before checking; nothing is kept. */
  files?: Record<string, string>;
}

export interface Checked {
  ok: boolean;
  findings: unknown[];
}

export interface ConsumerView {
  name: string;
  owner: string;
  paused: boolean;
  created_at: number;
  keys: KeyView[];
}

export interface DeriveRequest {
  /** Address of a definition, or HOST:PORT (with https:// before it for TLS) of a gRPC server that tells it by reflection. */
  url?: string;
  /** Name and password for that address, as NAME:PASSWORD; nothing of it is kept. */
  login?: string;
  /** Whether addresses of the service's own host and link may be called. */
  allow_local?: boolean;
  /** Certificates in PEM that a server's own may be signed with, for reflection by TLS; the machine's unless given. */
  trust?: string;
  /** Or its files, by name. */
  files?: Record<string, string>;
  /** Or an uploaded file or ZIP, in base64 (RFC 4648 §4), with its name in `name_of_upload`. */
  upload?: string;
  /** Name of the uploaded file. */
  name_of_upload?: string;
  /** The main one of the files; found by what they hold unless given. */
  main?: string;
  /** Name of the new backend and facade. */
  name: string;
  /** Where the backend is called, in place of the first address in the definition. */
  address?: string;
  /** Operations to take, by their names in the definition; all unless given. */
  only?: string[];
}

export interface Difference {
  facade: string;
  /** `same`, `changed`, `new` (not served yet) or `gone` (served, but not in the draft). */
  status: string;
  /** What changes for callers, the most harmful first. */
  changes: unknown[];
  /** Changed files, as unified differences. */
  files: Record<string, string>;
  /** Consumers that called an operation in the last seven days that would break. */
  used_by?: UsedBy[];
}

export interface DraftFile {
  path: string;
  text: string;
  /** Grows with each change; give it back when pushing to be told of changes in the meantime. */
  revision: number;
  changed_by: string;
  /** Milliseconds since 1970. */
  changed_at: number;
}

export interface Explained {
  /** Why the reply was what it was, in sentences. */
  explanation: string[];
  trace: unknown;
}

export interface FacadeSummary {
  name: string;
  title: string;
  base: string;
  version: string;
  operations: number;
  backends: string[];
  /** `same`, `changed`, `new` or `gone`: the draft against what is served. */
  status: string;
  paused: boolean;
  errors: number;
  /** Calls in the last hour. */
  calls: number;
}

export interface FacadeView {
  name: string;
  title: string;
  base: string;
  version: string;
  description: string;
  /** How callers reach it. */
  address: string;
  status: string;
  paused: boolean;
  operations: OperationSummary[];
  /** Its files in the draft. */
  files: string[];
  findings: unknown[];
}

export interface KeyChange {
  /** When it ends, in milliseconds since 1970; 0: now. */
  ends_at?: number | null;
  paused?: boolean | null;
}

export interface KeyView {
  /** What the key is known by. */
  prefix: string;
  label: string;
  /** Milliseconds since 1970; none: it does not end. */
  ends_at?: number | null;
  paused: boolean;
  created_at: number;
  /** The whole key: shown once, when it is made. */
  key?: string | null;
}

export interface LookRequest {
  /** Address of a definition, or HOST:PORT (with https:// before it for TLS) of a gRPC server that tells it by reflection. */
  url?: string;
  /** Name and password for that address, as NAME:PASSWORD; nothing of it is kept. */
  login?: string;
  /** Whether addresses of the service's own host and link may be called. */
  allow_local?: boolean;
  /** Certificates in PEM that a server's own may be signed with, for reflection by TLS; the machine's unless given. */
  trust?: string;
  /** Or its files, by name. */
  files?: Record<string, string>;
  /** Or an uploaded file or ZIP, in base64 (RFC 4648 §4), with its name in `name_of_upload`. */
  upload?: string;
  /** Name of the uploaded file. */
  name_of_upload?: string;
  /** The main one of the files; found by what they hold unless given. */
  main?: string;
}

export interface Minute {
  /** Minutes since 1970. */
  minute: number;
  calls: number;
  refused: number;
  failed: number;
}

export interface NewAccount {
  name: string;
  /** At least 8 characters; white space around it is taken away. */
  password: string;
  /** `viewer`, `publisher` or `administrator`. */
  role: string;
}

export interface NewConsumer {
  name: string;
  /** Who looks after it. */
  owner?: string;
}

export interface NewKey {
  label?: string;
  /** Milliseconds since 1970; none: it does not end. */
  ends_at?: number | null;
}

export interface NewSecret {
  name: string;
  /** White space around it is taken away. */
  value: string;
}

export interface OperationSummary {
  id: string;
  method: string;
  path: string;
  summary: string;
  /** The backend, or empty when it is not wired. */
  backend: string;
  calls: number;
  refused: number;
  failed: number;
  paused: boolean;
}

export interface OperationView {
  facade: string;
  id: string;
  method: string;
  path: string;
  summary: string;
  backend: string;
  /** What is called of the backend. */
  call: string;
  status: string;
  /** The caller's fields beside the backend's, and a request to try. */
  table: unknown;
  /** The rules that act, in their order. */
  rules: unknown[];
}

export interface Overview {
  environment: string;
  /** Number of the release that is served; 0: none. */
  release: number;
  made_by: string;
  made_at: number;
  /** Where callers reach the gateway. */
  gateway: string;
  /** Whether the release came from disk, because the database did not answer. */
  from_disk: boolean;
  /** What went wrong lately; empty when nothing did. */
  trouble: string;
  /** Facades whose draft differs from what is served. */
  unreleased: Difference[];
  /** Errors in the draft. */
  errors: number;
  now: Traffic;
  before: Traffic;
  /** Calls, refusals and failures of each of the last sixty minutes. */
  minutes: Minute[];
  /** What is paused: facade and operation. */
  paused: ([string, string])[];
  lost_records: number;
}

export interface Pause {
  /** An operation; the whole facade unless given. */
  operation?: string;
  paused: boolean;
}

export interface Paused {
  paused: boolean;
}

export interface Push {
  /** Files to write, by path. */
  files: Record<string, string>;
  /** Files to remove. */
  remove?: string[];
  /** Revisions that the files must still have. */
  revisions?: Record<string, number>;
}

export interface Pushed {
  /** Paths that were new or different. */
  changed: string[];
  removed: string[];
  /** Paths of the draft that were not among the files pushed. */
  kept: string[];
  /** What the check of the whole draft finds now. */
  findings: unknown[];
  /** Names of facades whose draft differs from what is served. */
  unreleased: string[];
}

export interface Release {
  number: number;
  environment: string;
  /** Facades taken from the draft, or from an older release. */
  taken: string[];
  /** All facades that it holds. */
  facades: string[];
  note: string;
  made_by: string;
  made_at: number;
  served: boolean;
}

export interface ReleaseRequest {
  /** Facades to take from the draft. One that is not in the draft any more is no longer served. */
  facades: string[];
  note?: string;
}

export interface Released {
  number: number;
  taken: string[];
  carried_over: string[];
  removed: string[];
  findings: unknown[];
}

export interface SecretSet {
  name: string;
  /** Whether white space was taken away. */
  trimmed: boolean;
}

export interface SecretView {
  name: string;
  changed_by: string;
  changed_at: number;
}

export interface Session {
  /** For `Authorization: Bearer`; only given when signing in. */
  token?: string | null;
  name: string;
  role: string;
}

export interface SignIn {
  name: string;
  password: string;
  /** What the session is for, to tell it from others. */
  label?: string;
}

export interface TraceLine {
  id: string;
  at: number;
  facade: string;
  operation: string;
  consumer: string;
  status: number;
  us: number;
  method: string;
  target: string;
  /** Why there was no normal reply. */
  why: string;
}

export interface Traffic {
  calls: number;
  /** Replies with a status from 400 to 499. */
  refused: number;
  /** Replies with a status from 500 on. */
  failed: number;
  /** Half of the calls took at most so many microseconds. */
  p50_us: number;
  p99_us: number;
}

export interface Trial {
  facade: string;
  operation: string;
  /** Values of the path variables. */
  path?: Record<string, unknown>;
  /** Query parameters. */
  query?: Record<string, unknown>;
  /** Header fields. */
  headers?: Record<string, string>;
  /** The body, if there is one. */
  body?: unknown | null;
  /** Files to put over the draft's for this run only. */
  files?: Record<string, string>;
}

export interface TrialResult {
  status: number;
  headers: ([string, string])[];
  body: string;
  /** Every stage. */
  trace: unknown;
  /** Whether callers would get the same: false while the draft differs from what is served. */
  released: boolean;
}

export interface UsageLine {
  facade: string;
  operation: string;
  consumer: string;
  calls: number;
  refused: number;
  failed: number;
  bytes_in: number;
  bytes_out: number;
  p50_us: number;
  p99_us: number;
}

export interface UsedBy {
  operation: string;
  consumer: string;
  calls: number;
}
