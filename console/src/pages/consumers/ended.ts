import type { KeyView } from "../../api/schema";

/** Whether a key has ended. */
export const hasEnded = (k: KeyView, now: number): boolean => k.ends_at != null && k.ends_at <= now;
