import { describe, expect, it } from "vitest";

import { bodyOf, curlOf, isChosen } from "../portal/call/FileBody";
import { prettyXml } from "../portal/call/prettyXml";
import { send } from "../portal/call/send";
import { examplesOf } from "../portal/docs/Contents";
import { misfits } from "../portal/docs/fits";
import { type Document, sampleOf, type Schema, typeOf } from "../portal/docs/openapi";
import { written } from "../portal/docs/written";

const document: Document = {
  components: {
    schemas: {
      Hold: {
        type: "object",
        required: ["sailing", "seats"],
        additionalProperties: false,
        properties: {
          sailing: { type: "string", pattern: "^S-[0-9]+$" },
          seats: { type: "integer", minimum: 1, maximum: 9 },
          class: { type: "string", enum: ["foot", "car"] },
          names: { type: "array", maxItems: 2, items: { type: "string", minLength: 2 } },
          next: { $ref: "#/components/schemas/Hold" },
        },
      },
      Loop: { allOf: [{ $ref: "#/components/schemas/Loop" }] },
      List: { type: "array", items: { $ref: "#/components/schemas/List" } },
      Many: { oneOf: Array.from({ length: 20 }, () => ({ allOf: [{ $ref: "#/components/schemas/Many" }] })) },
      Wide: {
        type: "object",
        required: Array.from({ length: 30 }, (_, i) => `m${i}`),
        properties: Object.fromEntries(
          Array.from({ length: 30 }, (_, i) => [`m${i}`, { $ref: "#/components/schemas/Wide" }]),
        ),
      },
    },
  },
};
const HOLD: Schema = { $ref: "#/components/schemas/Hold" };

describe("what does not fit a schema", () => {
  it("is told with where it stands", () => {
    const told = (value: unknown) => misfits(document, HOLD, value).map((m) => `${m.at} ${m.what}`);
    expect(told({ sailing: "S-17", seats: 2 })).toEqual([]);
    expect(told({ sailing: "17", seats: 10, class: "cabin", names: ["x", "yy", "zz"], fare: 1 })).toEqual([
      "/sailing does not match ^S-[0-9]+$",
      "/seats is more than 9",
      "/class should be one of foot, car",
      "/names has more than 2",
      "/names/0 has fewer than 2 characters",
      "/fare is not known",
    ]);
    expect(told({ sailing: "S-1", seats: 1, next: { seats: "2" } })).toEqual([
      "/next/sailing is missing",
      "/next/seats is string, and should be integer",
    ]);
    expect(told([])).toEqual([" is array, and should be object"]);
    expect(told({ seats: 1.5 })).toContain("/seats is number, and should be integer");
  });

  it("has an end where a schema holds itself, or a value very much", () => {
    expect(misfits(document, { $ref: "#/components/schemas/Loop" }, {})).toEqual([]);
    const wrong = Object.fromEntries(Array.from({ length: 500 }, (_, i) => [`m${i}`, 1]));
    expect(misfits(document, HOLD, wrong)).toHaveLength(30);
    const of = (name: string) => ({ $ref: `#/components/schemas/${name}` });
    expect(misfits(document, of("Many"), {}).length).toBeLessThan(31);
    expect(typeOf(document, of("List"))).toMatch(/^list of list of .* List$/);
    expect(typeOf(document, of("Many")).length).toBeLessThan(20_000);
    expect(sampleOf(document, of("List"))).toBeDefined();
    expect(JSON.stringify(sampleOf(document, of("Wide"))).length).toBeLessThan(300_000);
  });
});

describe("an example", () => {
  it("is written as its media type is", () => {
    const value = { sailing: "S-17", seats: 2, names: ["A & B", "C"] };
    expect(written(document, "application/xml", HOLD, value)).toBe(
      "<Hold>\n  <sailing>S-17</sailing>\n  <seats>2</seats>\n  <names>A &amp; B</names>\n  <names>C</names>\n</Hold>",
    );
    expect(written(document, "application/x-www-form-urlencoded", HOLD, { a: "x y", b: 1 })).toBe("a=x+y&b=1");
    expect(written(document, "application/problem+json", undefined, { a: 1 })).toBe('{\n  "a": 1\n}');
    expect(written(document, "text/plain", undefined, "as it is")).toBe("as it is");
  });

  it("is the contract's own where there is one", () => {
    const media = { schema: HOLD, examples: { small: { value: { seats: 1 } }, large: { value: { seats: 9 } } } };
    expect(examplesOf(document, "application/json", media).map(([name]) => name)).toEqual(["small", "large"]);
    const made = examplesOf(document, "application/json", { schema: HOLD });
    expect(JSON.parse(made[0]?.[1] ?? "")).toMatchObject({ class: "foot", seats: 1 });
  });
});

describe("a body of files", () => {
  it("is chosen and not written", () => {
    expect(["multipart/form-data", "application/octet-stream", "image/png"].every(isChosen)).toBe(true);
    expect(["application/json", "text/csv", "application/soap+xml", ""].some(isChosen)).toBe(false);
    const file = new File(["x"], "deck plan.png");
    const form = bodyOf("multipart/form-data", { plan: [file], note: "it's new", empty: "" }) as FormData;
    expect([...form.keys()]).toEqual(["plan", "note"]);
    expect(bodyOf("image/png", { "": [file] })).toBe(file);
    expect(curlOf("multipart/form-data", { plan: [file], note: "it's @new" })).toBe(
      "--form 'plan=@deck plan.png' --form-string 'note=it'\\''s @new'",
    );
    expect(curlOf("image/png", {})).toBe("--data-binary '@FILE'");
  });
});

describe("XML that came back", () => {
  it("is laid out, and left alone where spaces mean something or it is none", () => {
    const xml = '<?xml version="1.0"?><a x="1"><b>one</b><c><d/></c><p>some <i>text</i></p></a>';
    expect(prettyXml(xml).split("\n")).toEqual([
      '<?xml version="1.0"?>',
      '<a x="1">',
      "  <b>one</b>",
      "  <c>",
      "    <d/>",
      "  </c>",
      "  <p>some <i>text</i></p>",
      "</a>",
    ]);
    expect(prettyXml("<a><b></a>")).toBe("<a><b></a>");
  });
});

describe("a stream", () => {
  it("is shown as it comes, and stopped by hand", async () => {
    let push: (text: string) => void = () => {};
    const body = new ReadableStream<Uint8Array>({
      start(c) {
        push = (text) => c.enqueue(new TextEncoder().encode(text));
      },
    });
    const was = globalThis.fetch;
    globalThis.fetch = async (_, given) => {
      given?.signal?.addEventListener("abort", () => void body.cancel().catch(() => {}));
      return new Response(body, { headers: { "content-type": "text/event-stream" } });
    };
    try {
      const seen: string[] = [];
      const stop = new AbortController();
      let told: () => void = () => {};
      const second = new Promise<void>((done) => (told = done));
      const done = send(
        { method: "GET", url: "http://x/", headers: [] },
        (r) => {
          seen.push(r.text ?? "");
          expect(r.more).toBe(true);
          if (seen.length === 1) push("data: 2\n\n");
          if (seen.length === 2) told();
        },
        stop.signal,
      );
      push("data: 1\n\n");
      await second;
      expect(seen).toEqual(["data: 1\n\n", "data: 1\n\ndata: 2\n\n"]);
      stop.abort();
      push = () => {};
      void done;
    } finally {
      globalThis.fetch = was;
    }
  });
});
