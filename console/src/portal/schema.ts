// Written by `cargo xtask api` from the API. Do not edit.

export interface Account {
  email: string;
  name: string;
  /** The team that is acted for. */
  team: string;
  /** What offers may ask for; publishers give it. */
  roles: string[];
  /** Whether members may be invited and taken out. */
  manages: boolean;
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

export interface Application {
  name: string;
  created_at: number;
  /** Whether a publisher has stopped it. */
  paused: boolean;
  keys: KeyView[];
  agreements: AgreementView[];
  requests: RequestView[];
}

export interface Called {
  facade: string;
  operation: string;
  status: number;
  calls: number;
  /** Of request bodies. */
  bytes_in: number;
  /** Of reply bodies. */
  bytes_out: number;
}

export interface CatalogueView {
  groups: GroupLine[];
  /** Operations that fit what was searched for, the nearest first; at most 50. */
  found: Found[];
}

export interface Confirming {
  /** What stands behind the `#` of the link. */
  token: string;
  /** The password that was chosen: whoever reads the letter must have chosen it too. */
  password: string;
}

export interface FacadeLine {
  name: string;
  title: string;
  version: string;
  summary: string;
  operations: number;
}

export interface Forgotten {
  email: string;
}

export interface Found {
  facade: string;
  /** Title of the facade. */
  title: string;
  operation: OperationLine;
}

export interface GroupLine {
  title: string;
  summary: string;
  facades: FacadeLine[];
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

export interface KeyWanted {
  /** What it is for. */
  label?: string;
  /** When it ends, in milliseconds since 1970; none: it does not. */
  ends_at?: number | null;
}

export interface Leaving {
  password: string;
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

export interface NewApplication {
  name: string;
}

export interface Notice {
  /** Whether it goes on for as long as its offer says that notice takes; it ends at once otherwise. */
  with_notice?: boolean;
  /** Why; the other side is told. */
  why?: string;
}

export interface OperationLine {
  id: string;
  method: string;
  /** Below the facade's address. */
  path: string;
  summary: string;
  tags: string[];
  deprecated: boolean;
  /** What must be shown, one of these; none: nothing. */
  credentials: Way[];
}

export interface OtherPassword {
  old: string;
  new: string;
}

export interface OwnUsage {
  calls: Called[];
  /** Sixty parts of the time, the oldest first. */
  parts: Part[];
}

export interface PageView {
  title: string;
  /** In HTML. */
  text: string;
}

export interface Part {
  /** When it begins, in milliseconds since 1970. */
  at: number;
  /** Calls that went well. */
  good: number;
  /** Those that were refused (4xx). */
  refused: number;
  /** Those that failed (5xx). */
  failed: number;
}

export interface PortalView {
  title: string;
  summary: string;
  /** Whether there is a logo, at `/logo.svg`. */
  logo: boolean;
  /** Colour of buttons and links on light ground; none: the portal's own. */
  accent?: string | null;
  /** The same on dark ground. */
  accent_on_dark?: string | null;
  /** What stands on the first page, in HTML. */
  front: string;
  /** Names and titles of further pages. */
  pages: ([string, string])[];
  /** Whether everybody may make an account. */
  sign_up: boolean;
  /** Where APIs are called. */
  gateway: string;
}

export interface ReadUntil {
  /** Number of the last message that was read. */
  until: number;
}

export interface Refusal {
  /** Id of the exchange, as in `traceparent`. */
  id: string;
  /** Milliseconds since 1970. */
  at: number;
  facade: string;
  operation: string;
  method: string;
  status: number;
  /** In plain words. */
  why: string;
}

export interface RenewedKey {
  /** The new key, shown whole this once. */
  new: KeyView;
  /** The one whose place it takes. */
  old: KeyView;
}

export interface Renewing {
  /** Until when the old key is good, in milliseconds since 1970; 0: until now. */
  old_until: number;
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

export interface Resetting {
  /** What stands behind the `#` of the link. */
  token: string;
  /** The new password. */
  password: string;
}

export interface SeenOffer {
  offer: ServedOffer;
  /** The text that must be accepted, in HTML. */
  text?: string | null;
  /** Whether one may ask for it. */
  may_ask: boolean;
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

export interface ShownFacade {
  name: string;
  title: string;
  version: string;
  summary: string;
  /** In HTML. */
  description: string;
  /** Where it is called. */
  address: string;
  operations: OperationLine[];
  /** Offers that open it, or some of it, as far as one sees them. */
  offers: ServedOffer[];
}

export interface SigningIn {
  email: string;
  password: string;
}

export interface SigningUp {
  email: string;
  /** What one is called. */
  name: string;
  /** At least 12 characters; white space around it is taken away. */
  password: string;
  /** What one's team is called; as oneself unless given. */
  team?: string;
}

export interface Way {
  /** `key`, `key-as-token`, `basic`, `token`, `signature` or `certificate`. */
  kind: string;
  /** Of a key: `header` or `query`. */
  in?: string | null;
  /** Of a key: the name of the header field or parameter. */
  name?: string | null;
  /** In words. */
  how: string;
}

export interface Wish {
  offer: string;
  /** What it is for: whoever decides reads it. */
  why?: string;
  /** The version of the text that is accepted. */
  accept?: string | null;
}

export interface Routes {
  "DELETE /api/account": { query: undefined; body: Leaving; reply: null };
  "GET /api/account/data": { query: undefined; body: undefined; reply: unknown };
  "PUT /api/account/password": { query: undefined; body: OtherPassword; reply: null };
  "POST /api/agreements/{agreement}/end": { query: undefined; body: Notice | null; reply: AgreementView };
  "GET /api/applications": { query: undefined; body: undefined; reply: Application[] };
  "POST /api/applications": { query: undefined; body: NewApplication; reply: Application };
  "POST /api/applications/{application}/keys": { query: undefined; body: KeyWanted; reply: KeyView };
  "POST /api/applications/{application}/requests": { query: undefined; body: Wish; reply: RequestView };
  "GET /api/catalogue": { query: { search?: string }; body: undefined; reply: CatalogueView };
  "POST /api/confirm": { query: undefined; body: Confirming; reply: Account };
  "GET /api/facades/{facade}": { query: undefined; body: undefined; reply: ShownFacade };
  "POST /api/forgotten": { query: undefined; body: Forgotten; reply: null };
  "DELETE /api/keys/{prefix}": { query: undefined; body: undefined; reply: null };
  "POST /api/keys/{prefix}/renew": { query: undefined; body: Renewing; reply: RenewedKey };
  "GET /api/messages": { query: { before?: number }; body: undefined; reply: MessageView[] };
  "POST /api/messages/read": { query: undefined; body: ReadUntil; reply: null };
  "GET /api/offers": { query: undefined; body: undefined; reply: SeenOffer[] };
  "GET /api/pages/{page}": { query: undefined; body: undefined; reply: PageView };
  "GET /api/portal": { query: undefined; body: undefined; reply: PortalView };
  "GET /api/refusals": { query: { application?: string }; body: undefined; reply: Refusal[] };
  "DELETE /api/requests/{request}": { query: undefined; body: undefined; reply: null };
  "POST /api/reset": { query: undefined; body: Resetting; reply: null };
  "GET /api/session": { query: undefined; body: undefined; reply: Account };
  "POST /api/session": { query: undefined; body: SigningIn; reply: Account };
  "DELETE /api/session": { query: undefined; body: undefined; reply: null };
  "POST /api/sign-up": { query: undefined; body: SigningUp; reply: null };
  "GET /api/usage": { query: { application?: string; hours?: number | null }; body: undefined; reply: OwnUsage };
}
