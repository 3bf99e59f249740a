import { describe, expect, it } from "vitest";

import { ago, pretty, prettyJson, took } from "../parts/format";

describe("format", () => {
  it("says times as people do", () => {
    const now = 1_793_000_000_000;
    const said = (seconds: number) => ago(now - seconds * 1000, now);
    expect([2, 59, 60, 3599, 7200, 86_400, 13 * 86_400].map(said)).toEqual([
      "just now",
      "59 seconds ago",
      "1 minute ago",
      "59 minutes ago",
      "2 hours ago",
      "1 day ago",
      "13 days ago",
    ]);
    expect(said(-7200)).toBe("in 2 hours");
    expect(said(20 * 86_400)).toMatch(/^\d{4}-\d\d-\d\d$/);
  });

  it("keeps every digit of numbers when laying JSON out", () => {
    expect(prettyJson('{"fare":1520.250,"n":18446744073709551616,"s":"a,{\\"b\\":","e":[],"l":[1,2]}')).toBe(
      '{\n  "fare": 1520.250,\n  "n": 18446744073709551616,\n  "s": "a,{\\"b\\":",\n  "e": [],\n  "l": [\n    1,\n    2\n  ]\n}',
    );
  });

  it("puts elements on lines of their own", () => {
    expect(pretty("<a><b>x</b><c/></a>")).toBe("<a>\n  <b>x</b>\n  <c/>\n</a>");
  });

  it("chooses a unit that reads well", () => {
    expect([took(12), took(1500), took(2_500_000)]).toEqual(["12 µs", "1.5 ms", "2.50 s"]);
  });
});
