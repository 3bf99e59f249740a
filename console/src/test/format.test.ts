import { describe, expect, it } from "vitest";

import { pretty, prettyJson, took } from "../parts/format";

describe("format", () => {
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
