import type { ServedOffer } from "../../api/schema";

const UNITS: [number, string][] = [
  [86_400_000, "days"],
  [3_600_000, "hours"],
  [60_000, "minutes"],
  [1000, "seconds"],
];

/** How long an agreement lasts, in the largest unit that says it whole. */
export function lasts(o: ServedOffer): string {
  const ms = o.lasts;
  if (ms == null) return "without end";
  const whole = UNITS.find(([unit]) => ms % unit === 0);
  return whole ? `${ms / whole[0]} ${whole[1]}` : `${ms} ms`;
}

export const termsOf = (terms: Record<string, unknown>): string =>
  Object.entries(terms)
    .map(([name, value]) => `${name}=${String(value)}`)
    .join(", ");
