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
  /** Whether a second factor is asked for. */
  factor: boolean;
  /** Whether there is a password; none: one signs in by OpenID alone. */
  password: boolean;
}

export interface Again {
  password?: string;
  /** The code of the second factor, where there is one. */
  code?: string;
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
  /** Public keys, certificates and what else a publisher noted. */
  credentials: OwnCredentialView[];
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

export interface ChangeLine {
  /** `breaks`, `adds` or `tells`. */
  harm: string;
  /** Empty: it is about the whole. */
  operation: string;
  what: string;
}

export interface ChangedView {
  id: number;
  facade: string;
  title: string;
  /** Milliseconds since 1970. */
  at: number;
  version: string;
  /** `new` or `changed`. */
  status: string;
  changes: ChangeLine[];
}

export interface Confirming {
  /** What stands behind the `#` of the link. */
  token: string;
  /** The password that was chosen: whoever reads the letter must have chosen it too. */
  password: string;
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

export interface FacadeLine {
  name: string;
  title: string;
  version: string;
  summary: string;
  operations: number;
}

export interface FactorCodes {
  codes: string[];
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

export interface InvitationView {
  email: string;
  /** Milliseconds since 1970. */
  sent_at: number;
  expires_at: number;
}

export interface InvitedView {
  email: string;
  team: string;
  /** Whether there is an account of this address, whose password is asked for. */
  known: boolean;
}

export interface Inviting {
  email: string;
}

export interface Joining {
  token: string;
  /** What one is called, for who has no account yet. */
  name?: string;
  /** One's own; the one that is chosen, for who has no account yet. */
  password: string;
  /** The code of the second factor, where there is one. */
  code?: string;
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

export interface LeftView {
  facade: string;
  /** The limit in words. */
  rule: string;
  most: number;
  left: number;
  /** Whether it is of bytes, and not of calls. */
  bytes: boolean;
  /** When all of it is free again, if nobody calls, in milliseconds since 1970. */
  free_at: number;
}

export interface MemberChange {
  /** Whether they may invite and take out others. */
  manages: boolean;
}

export interface MemberView {
  email: string;
  name: string;
  /** Whether they may invite and take out others. */
  manages: boolean;
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

export interface NewFactor {
  /** In base 32 (RFC 4648 §6). */
  secret: string;
  /** The same as an address that authenticators read. */
  address: string;
  /** The same as a picture (SVG). */
  picture: string;
}

export interface NewWebhook {
  /** Where events are sent, by HTTPS. */
  url: string;
  /** Kinds of messages that are sent; all unless given. */
  kinds?: string[];
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
  /** From when it should not be used any more, as in `2027-03-01`. */
  deprecation?: string | null;
  /** From when it may not be there any more. */
  sunset?: string | null;
  /** What must be shown, one of these; none: nothing. */
  credentials: Way[];
}

export interface OtherPassword {
  old: string;
  new: string;
}

export interface OwnCertificateText {
  /** In PEM (RFC 7468 §5); it is known by its fingerprint. */
  certificate: string;
}

export interface OwnCredentialView {
  /** `signature`, `certificate`, `token` or `password`. */
  kind: string;
  /** What it is known by: of a signature its `keyid`, of a certificate its fingerprint, of a token its client and issuer. */
  known_by: string;
  created_at: number;
  /** Milliseconds since 1970, to the minute; none: it was not used yet. */
  last_used_at?: number | null;
}

export interface OwnPublicKey {
  /** In PEM (RFC 7468 §13) or as a JSON Web Key (RFC 7517); the private key stays where it is. */
  public_key: string;
}

export interface OwnTeam {
  name: string;
  members: MemberView[];
  invitations: InvitationView[];
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
  /** Whether one is shown example answers in place of calls. */
  examples: boolean;
  /** Whether it is the draft that is looked at. */
  draft: boolean;
}

export interface PortalWays {
  /** The provider's name, where one can sign in by OpenID. */
  openid?: string | null;
}

export interface PreviewToken {
  /** What stands behind `#preview=` in the link. */
  token: string;
}

export interface PreviewView {
  draft: boolean;
}

export interface ProblemKind {
  status: number;
  /** Its `type`. */
  type: string;
  /** What whoever called does about it. */
  todo: string;
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

export interface SettingFactor {
  password?: string;
  /** What was drawn. */
  secret: string;
  /** A code of it. */
  code: string;
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
  /** The code of the second factor, where there is one. */
  code?: string;
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

export interface TeamLine {
  id: number;
  name: string;
  /** Whether one acts for it now. */
  now: boolean;
}

export interface Token {
  /** What stands behind the `#` of the link. */
  token: string;
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
  "PUT /api/account/factor": { query: undefined; body: SettingFactor; reply: FactorCodes };
  "POST /api/account/factor": { query: undefined; body: Again; reply: NewFactor };
  "DELETE /api/account/factor": { query: undefined; body: Again; reply: null };
  "PUT /api/account/password": { query: undefined; body: OtherPassword; reply: null };
  "POST /api/agreements/{agreement}/end": { query: undefined; body: Notice | null; reply: AgreementView };
  "GET /api/applications": { query: undefined; body: undefined; reply: Application[] };
  "POST /api/applications": { query: undefined; body: NewApplication; reply: Application };
  "POST /api/applications/{application}/certificates": { query: undefined; body: OwnCertificateText; reply: OwnCredentialView };
  "POST /api/applications/{application}/keys": { query: undefined; body: KeyWanted; reply: KeyView };
  "POST /api/applications/{application}/requests": { query: undefined; body: Wish; reply: RequestView };
  "POST /api/applications/{application}/signing-keys": { query: undefined; body: OwnPublicKey; reply: OwnCredentialView };
  "GET /api/catalogue": { query: { search?: string }; body: undefined; reply: CatalogueView };
  "POST /api/confirm": { query: undefined; body: Confirming; reply: Account };
  "DELETE /api/credentials/{kind}/{known_by}": { query: undefined; body: undefined; reply: null };
  "GET /api/facades/{facade}": { query: undefined; body: undefined; reply: ShownFacade };
  "GET /api/facades/{facade}/changes": { query: { before?: number }; body: undefined; reply: ChangedView[] };
  "POST /api/forgotten": { query: undefined; body: Forgotten; reply: null };
  "POST /api/invitation": { query: undefined; body: Token; reply: InvitedView };
  "POST /api/invitation/accept": { query: undefined; body: Joining; reply: Account };
  "DELETE /api/keys/{prefix}": { query: undefined; body: undefined; reply: null };
  "POST /api/keys/{prefix}/renew": { query: undefined; body: Renewing; reply: RenewedKey };
  "GET /api/limits": { query: { application?: string }; body: undefined; reply: LeftView[] };
  "GET /api/messages": { query: { before?: number }; body: undefined; reply: MessageView[] };
  "POST /api/messages/read": { query: undefined; body: ReadUntil; reply: null };
  "GET /api/news": { query: undefined; body: undefined; reply: ChangedView[] };
  "GET /api/offers": { query: undefined; body: undefined; reply: SeenOffer[] };
  "GET /api/pages/{page}": { query: undefined; body: undefined; reply: PageView };
  "GET /api/portal": { query: undefined; body: undefined; reply: PortalView };
  "POST /api/preview": { query: undefined; body: PreviewToken; reply: PreviewView };
  "DELETE /api/preview": { query: undefined; body: undefined; reply: null };
  "GET /api/problems": { query: undefined; body: undefined; reply: ProblemKind[] };
  "GET /api/refusals": { query: { application?: string }; body: undefined; reply: Refusal[] };
  "DELETE /api/requests/{request}": { query: undefined; body: undefined; reply: null };
  "POST /api/reset": { query: undefined; body: Resetting; reply: null };
  "GET /api/session": { query: undefined; body: undefined; reply: Account };
  "POST /api/session": { query: undefined; body: SigningIn; reply: Account };
  "DELETE /api/session": { query: undefined; body: undefined; reply: null };
  "GET /api/session/openid": { query: undefined; body: undefined; reply: null };
  "GET /api/session/openid/return": { query: { code?: string | null; state?: string | null; iss?: string | null; error?: string | null }; body: undefined; reply: null };
  "GET /api/session/ways": { query: undefined; body: undefined; reply: PortalWays };
  "POST /api/sign-up": { query: undefined; body: SigningUp; reply: null };
  "GET /api/team": { query: undefined; body: undefined; reply: OwnTeam };
  "POST /api/team/invitations": { query: undefined; body: Inviting; reply: null };
  "DELETE /api/team/invitations/{email}": { query: undefined; body: undefined; reply: null };
  "PUT /api/team/members/{email}": { query: undefined; body: MemberChange; reply: null };
  "DELETE /api/team/members/{email}": { query: undefined; body: undefined; reply: null };
  "GET /api/teams": { query: undefined; body: undefined; reply: TeamLine[] };
  "POST /api/teams/{team}/act": { query: undefined; body: undefined; reply: null };
  "GET /api/usage": { query: { application?: string; hours?: number | null }; body: undefined; reply: OwnUsage };
  "GET /api/webhooks": { query: undefined; body: undefined; reply: WebhookView[] };
  "POST /api/webhooks": { query: undefined; body: NewWebhook; reply: WebhookView };
  "DELETE /api/webhooks/{webhook}": { query: undefined; body: undefined; reply: null };
  "POST /api/webhooks/{webhook}/ask": { query: undefined; body: undefined; reply: WebhookView };
  "GET /api/webhooks/{webhook}/events": { query: { before?: number }; body: undefined; reply: DeliveryView[] };
  "POST /api/webhooks/{webhook}/events/{event}/again": { query: undefined; body: undefined; reply: null };
  "PUT /api/webhooks/{webhook}/pause": { query: undefined; body: WebhookPause; reply: WebhookView };
}
