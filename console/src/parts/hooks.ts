/** What a webhook is, in the console and in the portal. */
export interface Hook {
  id: number;
  url: string;
  kinds: string[];
  agreed: boolean;
  paused: boolean;
  problem: string;
}

/** An event, and what became of it. */
export interface HookEvent {
  id: number;
  at: number;
  kind: string;
  subject: string;
  state: string;
  attempts: number;
  status?: number | null;
  next_at?: number | null;
  problem: string;
}

/** Kinds of messages, and when they are told. */
export const KINDS: [string, string][] = [
  ["request-made", "an offer is asked for"],
  ["request-granted", "a request is granted"],
  ["request-turned-down", "a request is turned down"],
  ["request-withdrawn", "a request is withdrawn"],
  ["quota-near", "a quota is nearly used up"],
  ["quota-used-up", "a quota is used up"],
  ["key-ending", "a key ends soon"],
  ["agreement-ending", "an agreement ends soon"],
  ["deprecation", "what is used should be used no more"],
  ["sunset", "what is used will be gone"],
  ["break", "what is used changes"],
  ["member", "somebody joins or leaves a team"],
];
