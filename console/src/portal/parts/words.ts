import type { ServedOffer } from "../schema";

const UNITS: [number, string][] = [
  [86_400_000, "days"],
  [3_600_000, "hours"],
  [60_000, "minutes"],
  [1000, "seconds"],
];

/** A length of time, in the largest unit that says it whole. */
export function span(ms: number): string {
  const whole = UNITS.find(([unit]) => ms % unit === 0 && ms > 0);
  return whole ? `${ms / whole[0]} ${whole[1]}` : `${ms} ms`;
}

/** How long an agreement lasts, and what comes then. */
export function lasts(o: ServedOffer): string {
  if (o.lasts == null) return "It has no end.";
  const then = { "by-itself": "then goes on by itself", never: "and is had once" }[o.renewed];
  return `It lasts ${span(o.lasts)}, ${then ?? "and may be asked for again"}.`;
}

export const terms = (of: Record<string, unknown>): string =>
  Object.entries(of)
    .map(([name, value]) => `${name} ${typeof value === "number" ? value.toLocaleString("en") : String(value)}`)
    .join(", ");

/** What is opened, in words: `sailings`, or `getBerth of berths`. */
export const opened = (opens: string[]): string =>
  opens
    .map((entry) => {
      const [facade, operation] = entry.split("/");
      return operation ? `${operation} of ${facade}` : `all of ${facade}`;
    })
    .join(", ");
