// Written by `cargo xtask api` from the API. Do not edit.

export interface AccountChange {
  /** `viewer`, `publisher` or `administrator`; the same as before unless given. */
  role?: string | null;
  /** A new password, at least 8 characters: the account's sessions end. The same as before unless given. */
  password?: string | null;
}

export interface AccountView {
  name: string;
  role: string;
  created_at: number;
}

export interface AddToQuota {
  consumer: string;
  /** A facade that the quota is of. */
  facade: string;
  /** One of its operations, where not all have the same quota. */
  operation?: string | null;
  /** How much is added to the period that runs now. */
  amount: number;
  /** Why; it stands in the audit. */
  why: string;
}

export interface AgreementView {
  id: number;
  consumer: string;
  /** Name of what was offered. */
  offer: string;
  /** Named numbers and texts that rules read. */
  terms: Record<string, unknown>;
  /** What it opens, `sailings` for a facade and `sailings/quoteFare` for one of its operations; none: every facade. */
  opens?: string[] | null;
  /** Milliseconds since 1970. */
  from_at: number;
  /** Milliseconds since 1970; none: without end. */
  until_at?: number | null;
  paused: boolean;
  /** Number of the request that it follows from; none: a publisher noted it. */
  request?: number | null;
  /** Which text was accepted: `version`, `digest` (BLAKE3), `by` and `at`. */
  accepted?: unknown | null;
  /** Who ended it, when and why: `by`, `at`, `why`. */
  ended?: unknown | null;
}

export interface Allowed {
  /** Requests. */
  requests: number;
  /** In any window of this length, as in `90s`. */
  window: string;
}

export interface Announced {
  /** How many teams. */
  teams: number;
}

export interface Announcement {
  /** Those who use this facade are told. */
  facade: string;
  /** Only those who use one of these operations; all of the facade unless given. */
  operations?: string[];
  subject: string;
  text: string;
}

export interface AuditLine {
  id: number;
  /** Milliseconds since 1970. */
  at: number;
  who: string;
  what: string;
  object: string;
  /** The change as a sentence, without who made it. */
  words: string;
  detail: Record<string, unknown>;
}

export interface Back {
  /** The release that is served. */
  served: number;
  /** What serving the other one again would change, facade by facade. */
  differences: Difference[];
  /** What would be offered otherwise. */
  offering: Offering;
}

export interface BackendView {
  name: string;
  title: string;
  kind: string;
  /** Where it is called here. */
  addresses: string[];
  /** What it is shown when it is called, in words; never a value. */
  credentials: string[];
  /** The facades that call it. */
  facades: string[];
  /** Its document. */
  file: string;
  /** Seconds that it is left alone still in what is served, since too many of its calls failed; 0: it is not. */
  resting: number;
  /** Its addresses that are left alone in what is served, since they are not well. */
  out: OutView[];
}

export interface Backtest {
  facade: string;
  /** Days that are looked back; 7 unless given, 31 at most. */
  days?: number | null;
  /** Files to put over the draft's for this once. */
  files?: Record<string, string>;
}

export interface Backtested {
  /** From when on, in milliseconds since 1970. */
  since_at: number;
  /** Calls that were looked at. */
  calls: number;
  limits: LimitTested[];
  /** What of the draft's limits could not be tried. */
  findings: Finding[];
}

export interface CallersCertificateView {
  /** What it is known by: `sha256:`, `dns:`, `uri:`, `email:`, `ip:` or `subject:` with what follows. */
  known_by: string;
  created_at: number;
  /** Milliseconds since 1970, to the minute; none: it was not used yet. */
  last_used_at?: number | null;
}

export interface CallsOf {
  facade: string;
  operation: string;
  calls: number;
}

export interface CertificateView {
  subject: string;
  issuer: string;
  /** The hosts that it is for. */
  names: string[];
  /** Until when it holds, in milliseconds since 1970. */
  ends: number;
}

export interface Change {
  /** What it does to callers. */
  harm: Harm;
  /** The operation it is about, or an empty text. */
  operation: string;
  /** The change in words. */
  what: string;
}

export interface ChangedConsumer {
  owner?: string | null;
  roles?: string[] | null;
  labels?: string[] | null;
  /** Whether it may call what it has agreed to and nothing else. */
  bound?: boolean | null;
}

export interface ChangedTerms {
  /** All terms from now on. */
  terms?: Record<string, unknown> | null;
  /** What it opens, facades or `FACADE/OPERATION`; an empty list: every facade. */
  opens?: string[] | null;
  /** Until when, in milliseconds since 1970; 0: until now. */
  until_at?: number | null;
  paused?: boolean | null;
}

export interface CheckRequest {
  /** Files to put over the draft's before checking; nothing is kept. */
  files?: Record<string, string>;
}

export interface Checked {
  ok: boolean;
  findings: Finding[];
}

export interface ClientView {
  /** What it is known by: the client and its issuer. */
  name: string;
  /** The issuer, as its tokens name it. */
  issuer: string;
  /** The client, as its tokens name it. */
  client: string;
  created_at: number;
  /** Milliseconds since 1970, to the minute; none: it was not used yet. */
  last_used_at?: number | null;
}

export interface ConsumerView {
  name: string;
  /** The account that looks after it. */
  owner: string;
  /** What it may be, for operations that take only some. */
  roles: string[];
  /** What people sort consumers by. */
  labels: string[];
  paused: boolean;
  /** Whether it may call what it has agreed to and nothing else. */
  bound: boolean;
  created_at: number;
  keys: KeyView[];
  /** Names that it shows with a password. */
  passwords: PasswordView[];
  /** Clients of issuers whose tokens it shows. */
  clients: ClientView[];
  /** Keys that it signs requests with. */
  signing_keys: SigningKeyView[];
  /** Certificates that it shows by TLS. */
  certificates: CallersCertificateView[];
  agreements: AgreementView[];
}

export interface CopyLine {
  facade: string;
  operation: string;
  /** The backend that got the copies. */
  backend: string;
  /** Copies whose answers were the same in all that is compared. */
  same: number;
  /** Copies whose answers were not. */
  different: number;
  /** Copies that were not answered. */
  failed: number;
  /** Calls that were not copied, since there were too many at the same time. */
  left_out: number;
  /** Microseconds of an exchange that was copied, in the middle. */
  mean_us: number;
  /** The same of the copies. */
  copies_mean_us: number;
  /** What was different, or failed, last. */
  told: string;
}

export interface Deleted {
  /** Files. */
  removed: string[];
  /** Backends that no facade of the draft calls any more; they stay. */
  unused: string[];
  /** Whether callers are served it until the next release of it. */
  served: boolean;
}

export interface DeliveryView {
  id: number;
  /** Kind of the message that it tells. */
  kind: string;
  subject: string;
  /** When it was told, in milliseconds since 1970. */
  at: number;
  /** `waiting`, `delivered` or `given-up`. */
  state: string;
  attempts: number;
  /** When it is tried next, in milliseconds since 1970. */
  next_at?: number | null;
  tried_at?: number | null;
  /** What was answered last. */
  status?: number | null;
  /** Why it was not taken; empty: it was, or was not tried yet. */
  problem: string;
}

export interface DeriveRequest {
  /** Address of a definition, or HOST:PORT (with https:// before it for TLS) of a gRPC server that tells it by reflection. */
  url?: string;
  /** Name and password for that address, as NAME:PASSWORD; nothing of it is kept. */
  login?: string;
  /** Whether addresses of the service's own host and link may be called; for administrators. */
  allow_local?: boolean;
  /** Certificates in PEM that a server's own may be signed with; those of the machine unless given. */
  trust?: string;
  /** The name that the certificate of the address's server must have, where that is another than the address's. */
  server_name?: string;
  /** A certificate in PEM that this server is shown, where it asks for one; nothing of it is kept. */
  certificate?: string;
  /** That certificate's private key, in PEM. */
  certificate_key?: string;
  /** Or its files, by name. */
  files?: Record<string, string>;
  /** Or an uploaded file or ZIP, in base64 (RFC 4648 §4), with its name in `name_of_upload`. */
  upload?: string;
  /** Name of the uploaded file. */
  name_of_upload?: string;
  /** The main one of the files; found by what they hold unless given. */
  main?: string;
  /** Or sample calls: command lines of curl, which are made once each. Together with `files` they are not made again, and only their credentials count. */
  sample?: string;
  /** Or exchanges as they are written down: requests and answers of HTTP, one behind the other. Nothing is called. */
  exchanges?: string;
  /** Title of what follows from exchanges. */
  title?: string;
  /** Name of the new backend and facade. */
  name: string;
  /** Where the backend is called, in place of the first address in the definition. */
  address?: string;
  /** Operations to take, by their names in the definition; all unless given. */
  only?: string[];
  /** How members are called in JSON, path variables and query parameters alike: `camel` (unless given) or `as-is`. */
  names?: NameStyle;
  /** What is chosen of operations, by the id that was proposed. */
  operations?: Record<string, Shaped>;
  /** Whether callers need a key; they do unless it is said. */
  key?: boolean | null;
  limit?: Allowed | null;
  /** Whether there is no backend yet, and operations answer with examples of the contract. */
  calls_nothing?: boolean;
  /** Whether the secrets that samples carried are set in the environment. Those that are there already stay. */
  keep_secrets?: boolean;
}

export interface DerivedDocuments {
  /** The files, by path. */
  files: Record<string, string>;
  /** How many operations were wired. */
  operations: number;
  findings: Finding[];
  /** Names of the secrets that samples carried and that the backends' documents name. */
  secrets: string[];
  /** Those of them that were set now. */
  secrets_kept: string[];
}

export interface Difference {
  facade: string;
  /** `same`, `changed`, `new` (not served yet) or `gone` (served, but not in the draft). */
  status: string;
  /** What changes for callers, the most harmful first. */
  changes: Change[];
  /** Changed files, as unified differences. */
  files: Record<string, string>;
  /** Changed files that other facades stand on too. */
  shared?: SharedFile[];
  /** Consumers that called an operation in the last seven days that would break, or would be gone. */
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

export interface EffectiveRule {
  /** The rule in words: `limit 5 per 2m per consumer`. */
  rule: string;
  /** Its reach: `everywhere`, `facade sailings`, `operation quoteFare`. */
  reach: string;
  /** The document it stands in; empty for built-in rules. */
  file: string;
  /** Line in it, from 1; 0 for built-in rules. */
  line: number;
  /** `match`, `admit`, `prepare`, `call`, `reply` or `record`; `overridden` where it does not hold. */
  stage: string;
  overridden_by?: RulePlace | null;
}

export interface EndedView {
  /** How many sessions there were. */
  sessions: number;
  /** How many tokens were taken away. */
  tokens: number;
}

export interface EventView {
  at: number;
  /** `quota`: a share of a quota is used. */
  kind: string;
  facade: string;
  consumer: string;
  /** What is told, by its kind. */
  detail: unknown;
}

export interface Explained {
  /** Why the reply was what it was, in sentences. */
  explanation: string[];
  trace: Trace;
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
  findings: Finding[];
}

export interface Finding {
  /** How bad it is. */
  severity: Severity;
  /** The file it was found in, or an empty text. */
  file: string;
  /** Line in the file, from 1. */
  line: number;
  /** Column in the line, in characters, from 1. */
  column: number;
  /** The same place as a JSON Pointer (RFC 6901), where the line is too long to find a column in. */
  pointer?: string;
  /** What was found. */
  message: string;
  /** What to do about it, or an empty text. */
  help: string;
}

export interface FoundOperation {
  /** Facades of the draft that have it. */
  facades: string[];
  /** The nearest name, when none has it. */
  near?: string | null;
  /** How many operations the draft has. */
  known: number;
}

export type Harm = "breaks" | "adds" | "tells";

export interface KeptView {
  /** Replies. */
  replies: number;
  /** Bytes of memory, about. */
  bytes: number;
  /** Bytes at most. */
  most: number;
  /** Operations whose replies are kept, each as `facade/operation`. */
  operations: string[];
}

export interface KeyChange {
  /** When it ends, in milliseconds since 1970; 0: now. */
  ends_at?: number | null;
  /** Whether it ends no more. */
  endless?: boolean;
  paused?: boolean | null;
  label?: string | null;
  /** Names of the facades that it opens; an empty list: every one. */
  facades?: string[] | null;
  /** Numbers of the agreements that it is for; an empty list: all of its consumer's. */
  agreements?: number[] | null;
}

export interface KeyView {
  /** What the key is known by. */
  prefix: string;
  label: string;
  /** Milliseconds since 1970; none: it does not end. */
  ends_at?: number | null;
  paused: boolean;
  created_at: number;
  /** Milliseconds since 1970, to the minute; none: it was not used yet. */
  last_used_at?: number | null;
  /** The facades that it opens; none: every one. */
  facades?: string[] | null;
  /** Numbers of the agreements that it is for; none: all of its consumer's. */
  agreements?: number[] | null;
  /** The whole key: shown once, when it is made. */
  key?: string | null;
}

export interface LimitTested {
  /** The limit or quota in words. */
  rule: string;
  /** What it reaches. */
  reach: string;
  /** Why it could not be tried; empty where it could. */
  not_tried: string;
  /** Calls that it would have been asked for. */
  calls: number;
  /** How many of these it would have refused. */
  refused: number;
  /** Whose calls, those who would have been refused most first. */
  whose: SubjectTested[];
}

export interface Look {
  /** `soap`, `grpc` or `http`. */
  kind: string;
  /** The definition's title. */
  title: string;
  /** What it says of itself. */
  documentation: string;
  /** Addresses it names. */
  addresses: string[];
  /** Its ports, for SOAP: the same operations may be called through several. */
  ports: Port[];
  /** Its operations. */
  operations: LookOperation[];
  /** What was found on the way. */
  findings: LookFinding[];
}

export interface LookField {
  /** Name. */
  name: string;
  /** Type in words. */
  type: string;
  /** Whether it must be there. */
  required: boolean;
}

export interface LookFinding {
  /** How bad it is. */
  severity: Severity;
  /** What was found. */
  message: string;
  /** File, line and column. */
  where: string;
  /** What to do. */
  help: string;
}

export interface LookOperation {
  /** Proposed `operationId`. */
  id: string;
  /** Proposed method. */
  method: string;
  /** Proposed path. */
  path: string;
  /** Name in the definition. */
  source: string;
  /** How it is called: `SOAP 1.1 document/literal`; empty for HTTP. */
  style: string;
  /** Whether it can be called. */
  available: boolean;
  /** Why not. */
  why: string;
  /** What JSON cannot carry. */
  losses: string[];
  /** Why this shape was proposed. */
  reason: string;
  /** What the definition says of it. */
  documentation: string;
  /** Members of its input: name, type, required. */
  inputs: LookField[];
  /** Members of its output. */
  outputs: LookField[];
  /** Names of its declared faults. */
  faults: string[];
}

export interface LookRequest {
  /** Address of a definition, or HOST:PORT (with https:// before it for TLS) of a gRPC server that tells it by reflection. */
  url?: string;
  /** Name and password for that address, as NAME:PASSWORD; nothing of it is kept. */
  login?: string;
  /** Whether addresses of the service's own host and link may be called; for administrators. */
  allow_local?: boolean;
  /** Certificates in PEM that a server's own may be signed with; those of the machine unless given. */
  trust?: string;
  /** The name that the certificate of the address's server must have, where that is another than the address's. */
  server_name?: string;
  /** A certificate in PEM that this server is shown, where it asks for one; nothing of it is kept. */
  certificate?: string;
  /** That certificate's private key, in PEM. */
  certificate_key?: string;
  /** Or its files, by name. */
  files?: Record<string, string>;
  /** Or an uploaded file or ZIP, in base64 (RFC 4648 §4), with its name in `name_of_upload`. */
  upload?: string;
  /** Name of the uploaded file. */
  name_of_upload?: string;
  /** The main one of the files; found by what they hold unless given. */
  main?: string;
  /** Or sample calls: command lines of curl, which are made once each. Together with `files` they are not made again, and only their credentials count. */
  sample?: string;
  /** Or exchanges as they are written down: requests and answers of HTTP, one behind the other. Nothing is called. */
  exchanges?: string;
  /** Title of what follows from exchanges. */
  title?: string;
}

export interface Looked {
  /** `soap`, `grpc` or `http`. */
  kind: string;
  /** The definition's title. */
  title: string;
  /** What it says of itself. */
  documentation: string;
  /** Addresses it names. */
  addresses: string[];
  /** Its ports, for SOAP: the same operations may be called through several. */
  ports: Port[];
  /** Its operations. */
  operations: LookOperation[];
  /** What was found on the way. */
  findings: LookFinding[];
  /** The description that follows from sample calls, by its file: what is derived from it makes no call again. */
  described: Record<string, string>;
  /** Definitions that the address offers in its catalogue, of which one is to be chosen; it is none itself then. */
  offers: OfferView[];
  /** What is worth knowing of how it was come by. */
  notes: string[];
}

export interface Message {
  /** Request or status line. */
  head: string;
  /** Header fields. */
  headers: ([string, string])[];
  /** The body, or its beginning. */
  body: string;
  /** Length of the whole body in bytes, when known. */
  bytes?: number | null;
}

export interface MessageView {
  id: number;
  /** Milliseconds since 1970. */
  at: number;
  /** As in `request-granted`. */
  kind: string;
  subject: string;
  text: string;
  /** The same for machines. */
  detail: unknown;
  read: boolean;
}

export interface Minute {
  /** Minutes since 1970. */
  minute: number;
  calls: number;
  refused: number;
  failed: number;
}

export type NameStyle = "camel" | "as-is";

export interface NewAccount {
  name: string;
  /** At least 8 characters; white space around it is taken away. None: it signs in by OpenID alone. */
  password?: string | null;
  /** `viewer`, `publisher` or `administrator`. */
  role: string;
}

export interface NewCertificate {
  /** The certificate in PEM (RFC 7468 §5): it is known by its fingerprint from now on. */
  certificate?: string | null;
  /** In place of it, a name in it, for certificates that a document's authorities signed: `dns:NAME`, `uri:URI`, `email:ADDRESS`, `ip:ADDRESS`, `subject:SUBJECT`; or `sha256:` with its fingerprint. */
  known_by?: string | null;
}

export interface NewClient {
  /** The issuer, as its tokens name it (`iss`). */
  issuer: string;
  /** The client, as its tokens name it: what the document's `consumer:` says of them. */
  client: string;
}

export interface NewConsumer {
  name: string;
  /** The account that looks after it. */
  owner?: string;
  /** What it may be. */
  roles?: string[];
  /** What people sort consumers by. */
  labels?: string[];
}

export interface NewForOld {
  /** Until when the old key is good, in milliseconds since 1970; 0: until now. */
  old_until: number;
  /** When the new key ends; none: it does not. */
  ends_at?: number | null;
  /** What the new key is for; as the old one unless given. */
  label?: string | null;
}

export interface NewKey {
  label?: string;
  /** Milliseconds since 1970; none: it does not end. */
  ends_at?: number | null;
  /** Names of the facades that it opens; none: every one. */
  facades?: string[] | null;
  /** Numbers of the agreements that it is for; none: all of its consumer's. */
  agreements?: number[] | null;
}

export interface NewMachineToken {
  /** What it is for. */
  label: string;
  /** What it may do: `viewer` unless given, and never more than whoever makes it. */
  role?: string | null;
  /** Days until it ends: 90 unless given, 366 at most. */
  days?: number | null;
}

export interface NewPassword {
  /** The name that is shown with it; that of the consumer unless given. */
  name?: string | null;
  /** At least 12 characters; white space around it is taken away. */
  password: string;
}

export interface NewSecret {
  name: string;
  /** White space around it is taken away. */
  value: string;
}

export interface NewSigningKey {
  /** What it is known by (`keyid`). */
  keyid: string;
  /** A public key, in PEM (RFC 7468 §13) or as a JSON Web Key (RFC 7517). */
  public_key?: string | null;
  /** A secret that both have, for `hmac-sha256`: at least 32 characters; white space around it is taken away. */
  secret?: string | null;
}

export interface NewTerms {
  /** Name of what was offered. */
  offer: string;
  /** Named whole numbers, texts and truth values. */
  terms?: Record<string, unknown>;
  /** What it opens, facades or `FACADE/OPERATION`; none: every facade. */
  opens?: string[] | null;
  /** From when, in milliseconds since 1970; from now on unless given. */
  from_at?: number | null;
  /** Until when; without end unless given. */
  until_at?: number | null;
}

export interface NewWebhook {
  /** Where events are sent, by HTTPS. */
  url: string;
  /** Kinds of messages that are sent; all unless given. */
  kinds?: string[];
}

export interface No {
  /** Why; those who asked are told. */
  reason: string;
}

export interface Notice {
  /** Whether it goes on for as long as its offer says that notice takes; it ends at once otherwise. */
  with_notice?: boolean;
  /** Why; the other side is told. */
  why?: string;
}

export interface OfferDifference {
  offer: string;
  /** `same`, `changed`, `new` (not served yet) or `gone` (served, but not in the draft). */
  status: string;
  /** What changes, in words. */
  changes: string[];
  /** Changed files, as unified differences. */
  files: Record<string, string>;
  /** How many agreements of it hold, or will. */
  agreements: number;
  /** What becomes of them. */
  then: string;
}

export interface OfferView {
  /** Where it is. */
  address: string;
  title: string;
  media_type: string;
}

export interface Offering {
  /** Offer by offer. */
  offers: OfferDifference[];
  /** The portal: `same`, `changed`, `new` or `gone`; none: there is none. */
  portal?: string | null;
  /** Changed files of the portal, as unified differences. */
  portal_files: Record<string, string>;
}

export interface OneConsumer {
  name: string;
  /** The account that looks after it. */
  owner: string;
  /** What it may be, for operations that take only some. */
  roles: string[];
  /** What people sort consumers by. */
  labels: string[];
  paused: boolean;
  /** Whether it may call what it has agreed to and nothing else. */
  bound: boolean;
  created_at: number;
  keys: KeyView[];
  /** Names that it shows with a password. */
  passwords: PasswordView[];
  /** Clients of issuers whose tokens it shows. */
  clients: ClientView[];
  /** Keys that it signs requests with. */
  signing_keys: SigningKeyView[];
  /** Certificates that it shows by TLS. */
  certificates: CallersCertificateView[];
  agreements: AgreementView[];
  /** Calls of the last seven days, the most first. */
  calls: CallsOf[];
}

export interface OperationSummary {
  id: string;
  method: string;
  path: string;
  summary: string;
  /** The backend, or empty when it calls none. */
  backend: string;
  /** Whether it answers with examples of the contract. */
  examples: boolean;
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
  /** The calls of an operation that has several, by the turns in which they may begin. */
  calls: WiredCall[];
  /** When requests are refused in the facade's own words. */
  refusals: WiredRefusal[];
  status: string;
  /** The caller's fields beside the backend's, and a request to try. */
  table: Table;
  /** The rules that act, in their order. */
  rules: EffectiveRule[];
}

export interface OutView {
  address: string;
  /** What was found of it. */
  told: string;
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
  /** Offers whose draft differs from what is served, and `the portal`. */
  unreleased_offers: string[];
  /** Requests for offers that nobody has decided yet. */
  open_requests: number;
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

export interface OwnPassword {
  /** The password until now. */
  old: string;
  /** The new one, at least 8 characters. */
  new: string;
}

export interface ParameterView {
  name: string;
  /** `string`, `integer`, `number`, `boolean`, `array` or `object`. */
  type: string;
  /** Absent where a value must be given. */
  default?: unknown;
  description: string;
}

export interface PasswordView {
  /** The name that the password belongs to. */
  name: string;
  created_at: number;
  /** Milliseconds since 1970, to the minute; none: it was not used yet. */
  last_used_at?: number | null;
}

export interface Pause {
  /** An operation; the whole facade unless given. */
  operation?: string;
  paused: boolean;
}

export interface Paused {
  paused: boolean;
}

export interface Port {
  /** The service's name. */
  service: string;
  /** Its own name. */
  name: string;
  /** Its binding's name. */
  binding: string;
  version?: SoapVersion | null;
  /** The address in the WSDL. */
  address: string;
}

export interface PreviewLink {
  /** Good for an hour, for whoever has it; an earlier one of one's own is good no more. */
  address: string;
}

export interface ProbeView {
  name: string;
  kind: string;
  /** What was shown, in words: the credentials for calling, and nothing else. */
  shown: string[];
  addresses: ProbedAddress[];
}

export interface ProbedAddress {
  address: string;
  /** What was asked. */
  asked: string;
  /** Whether something answered. */
  reached: boolean;
  /** Whether it answered that what it was shown is not good, or that it wants to be shown something. */
  refused: boolean;
  /** Its status, or why there is none. */
  told: string;
  /** What can be done about it. */
  help: string;
  /** The address that its name stands for. */
  at: string;
  /** The version of TLS; empty without it. */
  tls: string;
  certificate?: CertificateView | null;
  /** How long it took, in microseconds. */
  us: number;
}

export interface PurgeOf {
  /** Name of the facade; all unless given. */
  facade?: string;
  /** An operation of it. */
  operation?: string;
  /** The beginning of paths, as callers write them. */
  path?: string;
  /** A tag. */
  tag?: string;
}

export interface Purged {
  /** Replies of the service that was asked; the others let go of theirs too. */
  replies: number;
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
  findings: Finding[];
  /** Names of facades whose draft differs from what is served. */
  unreleased: string[];
  /** Names of offers whose draft does, and `the portal`. */
  unreleased_offers: string[];
}

export interface QuotaView {
  /** The quota, in words. */
  rule: string;
  /** What it reaches. */
  reach: string;
  /** A facade that it is of. */
  facade: string;
  /** Whose it is; empty where that is no consumer, agreement or account. */
  whose: string;
  used: number;
  /** Of how much; none where that follows from each request. */
  most?: number | null;
  /** What of that was added. */
  added: number;
  /** Milliseconds since 1970. */
  from_at: number;
  /** When it begins anew. */
  until_at: number;
}

export interface ReadUntil {
  /** Number of the last message that was read. */
  until: number;
}

export interface Refusal {
  /** The stage that said so. */
  stage: StageName;
  /** Why, with everything that helps the publisher. */
  why: string;
  /** The rule, its reach, its document and line. */
  rule: string;
  /** Reach of the rule. */
  reach: string;
  /** Document of the rule. */
  file: string;
  /** Line in the document. */
  line: number;
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
  facades?: string[];
  /** Offers to take from the draft. One that is not in the draft any more is no longer offered. */
  offers?: string[];
  /** Whether the portal's document is taken from the draft too. */
  portal?: boolean;
  note?: string;
}

export interface Released {
  number: number;
  taken: string[];
  carried_over: string[];
  removed: string[];
  /** Offers that were taken, and `the portal`. */
  offered: string[];
  /** Those that are offered no more. */
  no_longer_offered: string[];
  /** How many consumers' agreements got new terms. */
  followed: number;
  findings: Finding[];
  /** All that callers are served now. */
  serves: ServedFacade[];
  call?: SampleCall | null;
}

export interface Renewed {
  /** The new key, shown whole this once. */
  new: KeyView;
  /** The one whose place it takes. */
  old: KeyView;
}

export interface RequestView {
  id: number;
  consumer: string;
  owner: string;
  offer: string;
  /** `open`, `granted`, `turned-down` or `withdrawn`. */
  state: string;
  /** What whoever asked wrote. */
  why: string;
  asked_by: string;
  /** Milliseconds since 1970. */
  asked_at: number;
  /** Empty while it is open. */
  decided_by: string;
  decided_at?: number | null;
  /** What whoever decided wrote. */
  reason: string;
  /** Which text was accepted: `version`, `digest` (BLAKE3), `by` and `at`. */
  accepted?: unknown | null;
  /** Number of the agreement that followed. */
  agreement?: number | null;
}

export interface RollbackRequest {
  /** Only these facades; everything else is carried over. All of the release unless given. */
  facades?: string[];
  /** The release that is served, as the comparison told: another one in the meantime is a conflict. */
  served?: number | null;
}

export interface Row {
  /** The caller's name for it, with its place: `path route`; empty when the caller has none. */
  caller: string;
  /** Its type in the contract. */
  caller_type: string;
  /** What happens to it: an expression, a constant, or `as it is`. */
  what: string;
  /** The backend's name. */
  backend: string;
  /** Its type in the definition. */
  backend_type: string;
  /** Whether it must be there. */
  required: boolean;
}

export interface RulePlace {
  /** The rule in words: `limit 5 per 2m per consumer`. */
  rule: string;
  /** Its reach: `everywhere`, `facade sailings`, `operation quoteFare`. */
  reach: string;
  /** The document it stands in; empty for built-in rules. */
  file: string;
  /** Line in it, from 1; 0 for built-in rules. */
  line: number;
}

export interface RulesView {
  name: string;
  title: string;
  /** `everywhere`, `backends`, or `used` where facades and operations name it. */
  reach: string;
  /** The backends that it reaches. */
  backends: string[];
  parameters: ParameterView[];
  /** The facades that it reaches, in whatever way. */
  facades: string[];
  /** Its document. */
  file: string;
}

export interface Sample {
  /** Values of the path variables. */
  path: Record<string, unknown>;
  /** Query parameters. */
  query: Record<string, unknown>;
  /** Cookies that the contract demands (RFC 6265 §4.2). */
  cookies: Record<string, unknown>;
  /** The body, if there is one. */
  body?: unknown;
  /** The same as text: not every reader of JSON keeps all digits of its numbers. */
  text?: string | null;
}

export interface SampleCall {
  facade: string;
  operation: string;
  method: string;
  /** Path and query. */
  path: string;
  /** The body in JSON, if there is one. */
  body?: string | null;
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

export interface ServedFacade {
  name: string;
  version: string;
  /** How callers reach it. */
  address: string;
  operations: number;
}

export interface ServedOffer {
  name: string;
  title: string;
  summary: string;
  /** What an agreement opens, `sailings` for a facade and `sailings/quoteFare` for one of its operations. */
  opens: string[];
  /** Named whole numbers, texts and truth values that rules read. */
  terms: Record<string, unknown>;
  /** Who sees it, in words. */
  seen_by: string;
  /** Who may ask for it, in words. */
  asked_by: string;
  /** `at-once` or `by-person`. */
  granted: string;
  /** How long an agreement lasts, in milliseconds; none: without end. */
  lasts?: number | null;
  /** `by-asking`, `by-itself` or `never`. */
  renewed: string;
  /** How long it goes on after it is ended with notice, in milliseconds; none: not at all. */
  notice?: number | null;
  /** Version of the text that must be accepted; none: nothing must be. */
  accept?: string | null;
  /** That text, in Markdown. */
  text?: string | null;
  /** What it costs, in words. */
  price: string;
  /** What becomes of agreements when it changes: `keep` or `follow`. */
  when_changed: string;
  /** The limits and quotas of what it opens, in words, with its terms in them; only the portal says so. */
  limits?: string[] | null;
  /** How many agreements hold, or will; only publishers are told. */
  agreements?: number | null;
}

export interface Session {
  /** For `Authorization: Bearer`; only given when signing in. */
  token?: string | null;
  name: string;
  role: string;
}

export interface SessionView {
  /** What it is ended by. */
  id: number;
  /** What it is for, as was said when signing in. */
  label: string;
  /** Milliseconds since 1970. */
  created_at: number;
  /** Milliseconds since 1970. */
  ends_at: number;
  /** Whether it is the one that asks. */
  own: boolean;
}

export type Severity = "note" | "warning" | "error";

export interface Shaped {
  /** Its `operationId`. */
  id?: string | null;
  /** Its method. */
  method?: string | null;
  /** Its path, with the same variables. */
  path?: string | null;
}

export interface SharedFile {
  file: string;
  /** The other facades that it changes. */
  facades: string[];
}

export interface SignIn {
  name: string;
  password: string;
  /** What the session is for, to tell it from others. */
  label?: string;
}

export interface SigningKeyView {
  /** What it is known by (`keyid`). */
  keyid: string;
  /** `shared`: a secret that both have; else the kind of the public key. */
  kind: string;
  created_at: number;
  /** Milliseconds since 1970, to the minute; none: it was not used yet. */
  last_used_at?: number | null;
}

export type SoapVersion = "1.1" | "1.2";

export interface Stage {
  /** Which. */
  name: StageName;
  /** The step it belongs to, where an operation has several. */
  step?: string;
  /** Microseconds from the beginning of the exchange to that of the stage. */
  from_us: number;
  /** Microseconds it took. */
  us: number;
  /** What was found, decided or tolerated. */
  notes: string[];
  before?: Message | null;
  after?: Message | null;
}

export type StageName = "match" | "admit" | "prepare" | "call" | "reply" | "record";

export interface SubjectTested {
  /** Consumer, agreement or account; `everyone` where all share it. */
  name: string;
  calls: number;
  refused: number;
  /** Minutes in which calls would have been refused. */
  minutes: number;
  /** The first and the last of these, in milliseconds since 1970; none: no call would have been. */
  first_at?: number | null;
  last_at?: number | null;
  /** The minute with the most refusals, and how many these are. */
  worst_at?: number | null;
  worst: number;
}

export interface Table {
  /** From caller to backend. */
  request: Row[];
  /** From backend to caller. */
  reply: Row[];
  /** A request that fits the contract, to try the operation with. */
  sample: Sample;
}

export interface TeamRoles {
  /** All of its roles from now on. */
  roles: string[];
}

export interface TeamView {
  id: number;
  name: string;
  /** What offers and groups of the portal may ask for. */
  roles: string[];
  /** E-mail addresses of its members; at most 1000. */
  members: string[];
  /** Names of its consumers; at most 200. */
  consumers: string[];
  /** Milliseconds since 1970. */
  created_at: number;
}

export interface TokenView {
  /** What it is ended by. */
  id: number;
  /** How it begins. */
  prefix: string;
  label: string;
  /** In whose name it acts. */
  account: string;
  /** What it may do at most: `viewer`, `publisher` or `administrator`; never more than its account. */
  role: string;
  /** Milliseconds since 1970. */
  created_at: number;
  /** Milliseconds since 1970. */
  ends_at: number;
  /** Milliseconds since 1970, to the minute; none: it was not used yet. */
  last_used_at?: number | null;
  /** The whole token, for `Authorization: Bearer`: shown once, when it is made. */
  token?: string | null;
}

export interface Trace {
  /** The exchange's id: its trace id (W3C Trace Context §3.2.2.3). */
  id: string;
  /** When it began, in milliseconds since 1970. */
  at: number;
  /** Number of the release that served it; 0 for a trial run. */
  release: number;
  /** Facade, or empty. */
  facade: string;
  /** `operationId`, or empty. */
  operation: string;
  /** Number of the consumer, 0 when unknown. */
  consumer: number;
  /** Name of the consumer, or empty. */
  consumer_name: string;
  /** What the key is known by, or empty. */
  key: string;
  /** The caller's address. */
  address: string;
  /** Method. */
  method: string;
  /** Path and query. */
  target: string;
  /** Status of the reply. */
  status: number;
  /** Microseconds from first to last. */
  us: number;
  refusal?: Refusal | null;
  /** What of the reply does not fit the contract, where callers get it all the same. */
  misfit?: string;
  /** The stages, in order. */
  stages: Stage[];
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
  /** The body as a text, sent as it stands: all digits of numbers are kept. Goes before `body`. */
  text?: string | null;
  /** Answers in place of calls, by the calls' names; `answer` where an operation has one call. Of a call that is made for each of a list, the list of what all of them gave. */
  answers?: Record<string, TrialAnswer>;
  /** An exchange that was kept: what its calls were answered stands in place of them, but where an answer is given here. */
  answers_of?: string | null;
  /** Files to put over the draft's for this run only. */
  files?: Record<string, string>;
}

export interface TrialAnswer {
  /** Its status; 200 unless given. */
  status?: number | null;
  /** Its body. */
  body?: unknown | null;
}

export interface TrialResult {
  status: number;
  headers: ([string, string])[];
  body: string;
  /** Every stage. */
  trace: Trace;
  /** Whether callers would get the same: false while the draft differs from what is served. */
  released: boolean;
}

export interface UpdateRequest {
  /** Address of a definition, or HOST:PORT (with https:// before it for TLS) of a gRPC server that tells it by reflection. */
  url?: string;
  /** Name and password for that address, as NAME:PASSWORD; nothing of it is kept. */
  login?: string;
  /** Whether addresses of the service's own host and link may be called; for administrators. */
  allow_local?: boolean;
  /** Certificates in PEM that a server's own may be signed with; those of the machine unless given. */
  trust?: string;
  /** The name that the certificate of the address's server must have, where that is another than the address's. */
  server_name?: string;
  /** A certificate in PEM that this server is shown, where it asks for one; nothing of it is kept. */
  certificate?: string;
  /** That certificate's private key, in PEM. */
  certificate_key?: string;
  /** Or its files, by name. */
  files?: Record<string, string>;
  /** Or an uploaded file or ZIP, in base64 (RFC 4648 §4), with its name in `name_of_upload`. */
  upload?: string;
  /** Name of the uploaded file. */
  name_of_upload?: string;
  /** The main one of the files; found by what they hold unless given. */
  main?: string;
  /** Or sample calls: command lines of curl, which are made once each. Together with `files` they are not made again, and only their credentials count. */
  sample?: string;
  /** Or exchanges as they are written down: requests and answers of HTTP, one behind the other. Nothing is called. */
  exchanges?: string;
  /** Title of what follows from exchanges. */
  title?: string;
  /** Name of the backend and its facade, or of the facade whose contract was edited elsewhere. */
  name: string;
}

export interface UpdatedDocuments {
  /** The files to write, by path. */
  files: Record<string, string>;
  /** Files that the new definition no longer has. */
  removed: string[];
  /** The differences, in words. */
  changes: string[];
  findings: Finding[];
  /** Revisions that the draft's files had; give them back when the files are put into it. */
  revisions: Record<string, number>;
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
  /** Replies that did not fit the contract, where that is looked at. */
  misfits: number;
  p50_us: number;
  p99_us: number;
}

export interface UsedBy {
  operation: string;
  consumer: string;
  calls: number;
}

export interface Ways {
  /** The provider's name, where people can sign in by OpenID. */
  openid?: string | null;
}

export interface WebhookPause {
  paused: boolean;
}

export interface WebhookView {
  id: number;
  url: string;
  /** Kinds of messages that are sent; none: all. */
  kinds: string[];
  /** Whether whoever is there agreed to be sent events. */
  agreed: boolean;
  paused: boolean;
  /** Why nothing is sent; empty: it is. */
  problem: string;
  made_by: string;
  /** Milliseconds since 1970. */
  created_at: number;
}

export interface WiredCall {
  /** Its name. */
  name: string;
  /** The backend that it calls. */
  backend: string;
  /** So many calls are done before it at least: those with the same number may run at once. */
  turn: number;
  /** Names of the calls whose answers it needs. */
  needs: string[];
  /** When it is made; always where nothing stands here. */
  when: string;
  /** The list that it is made for; none where nothing stands here. */
  each: string;
  /** What leads to the next page of what comes in pages; it comes at once where nothing stands here. */
  pages: string;
  /** What is taken of a stream as a list; nothing where it is none. */
  messages: string;
  /** Whether it changes something. */
  writes: boolean;
  /** Whether something stands for its answer where it fails. */
  otherwise: boolean;
  /** Whether another call takes it back. */
  undone: boolean;
}

export interface WiredRefusal {
  /** When, as an expression. */
  when: string;
  /** Status of the reply. */
  status: number;
  /** What is said. */
  title: string;
  /** Names of the calls whose answers it looks at. */
  needs: string[];
}

export interface Yes {
  /** What those who asked are told besides. */
  reason?: string;
}

export interface Problem {
  /** What happened. */
  title: string;
  /** The status code. */
  status: number;
  /** What to do about it. */
  detail?: string;
  findings?: Finding[];
}

export interface Routes {
  "GET /api/accounts": { query: undefined; body: undefined; reply: AccountView[] };
  "POST /api/accounts": { query: undefined; body: NewAccount; reply: AccountView };
  "DELETE /api/accounts/{name}": { query: undefined; body: undefined; reply: null };
  "PATCH /api/accounts/{name}": { query: undefined; body: AccountChange; reply: AccountView };
  "DELETE /api/accounts/{name}/sessions": { query: { tokens?: boolean }; body: undefined; reply: EndedView };
  "GET /api/agreements": { query: { search?: string; offer?: string; holding?: boolean; before?: number; most?: number }; body: undefined; reply: AgreementView[] };
  "PUT /api/agreements/{agreement}": { query: undefined; body: ChangedTerms; reply: null };
  "DELETE /api/agreements/{agreement}": { query: undefined; body: undefined; reply: null };
  "POST /api/agreements/{agreement}/end": { query: undefined; body: Notice | null; reply: AgreementView };
  "POST /api/announcements": { query: undefined; body: Announcement; reply: Announced };
  "GET /api/audit": { query: undefined; body: undefined; reply: AuditLine[] };
  "GET /api/backends": { query: undefined; body: undefined; reply: BackendView[] };
  "POST /api/backends/{backend}/probe": { query: undefined; body: undefined; reply: ProbeView };
  "POST /api/backtests": { query: undefined; body: Backtest; reply: Backtested };
  "DELETE /api/certificates/{known_by}": { query: undefined; body: undefined; reply: null };
  "POST /api/check": { query: undefined; body: CheckRequest; reply: Checked };
  "DELETE /api/clients/{name}": { query: undefined; body: undefined; reply: null };
  "GET /api/compare": { query: undefined; body: undefined; reply: Difference[] };
  "GET /api/consumers": { query: { search?: string; after?: string; most?: number | null }; body: undefined; reply: ConsumerView[] };
  "POST /api/consumers": { query: undefined; body: NewConsumer; reply: ConsumerView };
  "GET /api/consumers/{consumer}": { query: undefined; body: undefined; reply: OneConsumer };
  "DELETE /api/consumers/{consumer}": { query: undefined; body: undefined; reply: null };
  "PATCH /api/consumers/{consumer}": { query: undefined; body: ChangedConsumer; reply: null };
  "POST /api/consumers/{consumer}/agreements": { query: undefined; body: NewTerms; reply: AgreementView };
  "POST /api/consumers/{consumer}/certificates": { query: undefined; body: NewCertificate; reply: CallersCertificateView };
  "POST /api/consumers/{consumer}/clients": { query: undefined; body: NewClient; reply: ClientView };
  "POST /api/consumers/{consumer}/keys": { query: undefined; body: NewKey; reply: KeyView };
  "PUT /api/consumers/{consumer}/password": { query: undefined; body: NewPassword; reply: PasswordView };
  "PUT /api/consumers/{consumer}/pause": { query: undefined; body: Paused; reply: null };
  "POST /api/consumers/{consumer}/signing-keys": { query: undefined; body: NewSigningKey; reply: SigningKeyView };
  "GET /api/copies": { query: { minutes?: number | null }; body: undefined; reply: CopyLine[] };
  "POST /api/derive": { query: undefined; body: DeriveRequest; reply: DerivedDocuments };
  "GET /api/draft": { query: undefined; body: undefined; reply: DraftFile[] };
  "PUT /api/draft": { query: undefined; body: Push; reply: Pushed };
  "GET /api/events": { query: { consumer?: string; most?: number | null }; body: undefined; reply: EventView[] };
  "GET /api/facades": { query: undefined; body: undefined; reply: FacadeSummary[] };
  "GET /api/facades/{facade}": { query: undefined; body: undefined; reply: FacadeView };
  "DELETE /api/facades/{facade}": { query: undefined; body: undefined; reply: Deleted };
  "GET /api/facades/{facade}/operations/{operation}": { query: undefined; body: undefined; reply: OperationView };
  "PUT /api/facades/{facade}/pause": { query: undefined; body: Pause; reply: null };
  "GET /api/kept": { query: undefined; body: undefined; reply: KeptView };
  "POST /api/kept/purge": { query: undefined; body: PurgeOf; reply: Purged };
  "PUT /api/keys/{prefix}": { query: undefined; body: KeyChange; reply: KeyView };
  "DELETE /api/keys/{prefix}": { query: undefined; body: undefined; reply: null };
  "POST /api/keys/{prefix}/renew": { query: undefined; body: NewForOld; reply: Renewed };
  "POST /api/look": { query: undefined; body: LookRequest; reply: Looked };
  "GET /api/messages": { query: { before?: number }; body: undefined; reply: MessageView[] };
  "POST /api/messages/read": { query: undefined; body: ReadUntil; reply: null };
  "GET /api/offers": { query: undefined; body: undefined; reply: ServedOffer[] };
  "GET /api/offers/compare": { query: undefined; body: undefined; reply: Offering };
  "GET /api/operations": { query: { id?: string }; body: undefined; reply: FoundOperation };
  "GET /api/overview": { query: undefined; body: undefined; reply: Overview };
  "DELETE /api/passwords/{name}": { query: undefined; body: undefined; reply: null };
  "POST /api/portal/preview": { query: undefined; body: undefined; reply: PreviewLink };
  "GET /api/quotas": { query: undefined; body: undefined; reply: QuotaView[] };
  "POST /api/quotas": { query: undefined; body: AddToQuota; reply: null };
  "GET /api/releases": { query: undefined; body: undefined; reply: Release[] };
  "POST /api/releases": { query: undefined; body: ReleaseRequest; reply: Released };
  "GET /api/releases/{number}/compare": { query: { facade?: string }; body: undefined; reply: Back };
  "POST /api/releases/{number}/rollback": { query: undefined; body: RollbackRequest | null; reply: Released };
  "GET /api/requests": { query: { search?: string; state?: string; offer?: string; before?: number; most?: number }; body: undefined; reply: RequestView[] };
  "POST /api/requests/{request}/grant": { query: undefined; body: Yes | null; reply: RequestView };
  "POST /api/requests/{request}/turn-down": { query: undefined; body: No; reply: RequestView };
  "GET /api/rules": { query: undefined; body: undefined; reply: RulesView[] };
  "GET /api/schemas": { query: undefined; body: undefined; reply: unknown };
  "GET /api/secrets": { query: undefined; body: undefined; reply: SecretView[] };
  "PUT /api/secrets": { query: undefined; body: NewSecret; reply: SecretSet };
  "GET /api/session": { query: undefined; body: undefined; reply: Session };
  "POST /api/session": { query: undefined; body: SignIn; reply: Session };
  "DELETE /api/session": { query: undefined; body: undefined; reply: null };
  "GET /api/session/openid": { query: undefined; body: undefined; reply: null };
  "GET /api/session/openid/return": { query: { code?: string | null; state?: string | null; iss?: string | null; error?: string | null }; body: undefined; reply: null };
  "PUT /api/session/password": { query: undefined; body: OwnPassword; reply: null };
  "GET /api/session/ways": { query: undefined; body: undefined; reply: Ways };
  "GET /api/sessions": { query: undefined; body: undefined; reply: SessionView[] };
  "DELETE /api/sessions": { query: undefined; body: undefined; reply: null };
  "DELETE /api/sessions/{id}": { query: undefined; body: undefined; reply: null };
  "DELETE /api/signing-keys/{keyid}": { query: undefined; body: undefined; reply: null };
  "GET /api/teams": { query: { search?: string; behind?: number }; body: undefined; reply: TeamView[] };
  "PUT /api/teams/{team}/roles": { query: undefined; body: TeamRoles; reply: TeamView };
  "GET /api/tokens": { query: undefined; body: undefined; reply: TokenView[] };
  "POST /api/tokens": { query: undefined; body: NewMachineToken; reply: TokenView };
  "DELETE /api/tokens/{id}": { query: undefined; body: undefined; reply: null };
  "GET /api/traces": { query: { facade?: string; operation?: string; consumer?: string; status?: string; most?: number | null }; body: undefined; reply: TraceLine[] };
  "GET /api/traces/{id}": { query: undefined; body: undefined; reply: Explained };
  "POST /api/trials": { query: undefined; body: Trial; reply: TrialResult };
  "POST /api/update": { query: undefined; body: UpdateRequest; reply: UpdatedDocuments };
  "GET /api/usage": { query: { minutes?: number | null }; body: undefined; reply: UsageLine[] };
  "GET /api/webhooks": { query: undefined; body: undefined; reply: WebhookView[] };
  "POST /api/webhooks": { query: undefined; body: NewWebhook; reply: WebhookView };
  "DELETE /api/webhooks/{webhook}": { query: undefined; body: undefined; reply: null };
  "GET /api/webhooks/{webhook}/events": { query: { before?: number }; body: undefined; reply: DeliveryView[] };
  "POST /api/webhooks/{webhook}/events/{event}/again": { query: undefined; body: undefined; reply: null };
  "PUT /api/webhooks/{webhook}/pause": { query: undefined; body: WebhookPause; reply: WebhookView };
}
