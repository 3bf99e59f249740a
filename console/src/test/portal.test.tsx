import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";

import { callOf, missing } from "../portal/call/request";
import { ReplyView } from "../portal/call/ReplyView";
import { type Document, find, limitsOf, sampleOf, typeOf } from "../portal/docs/openapi";
import { SchemaView } from "../portal/docs/SchemaView";
import { Home } from "../portal/pages/Home";
import { Offers } from "../portal/pages/Offers";
import { show } from "./stage";

const document: Document = {
  paths: {
    "/fares/{route}/{files*}": {
      parameters: [{ name: "route", in: "path", required: true, schema: { type: "string" } }],
      get: {
        operationId: "fares",
        parameters: [
          { name: "files", in: "path", required: true },
          { name: "tag", in: "query", schema: { type: "array", items: { type: "string" } } },
          { name: "plain", in: "query", explode: false, schema: { type: "array" } },
          { name: "X-Seen", in: "header" },
        ],
        requestBody: { content: { "application/json": { schema: { $ref: "#/components/schemas/Node" } } } },
      },
    },
  },
  components: {
    schemas: {
      Node: {
        type: "object",
        required: ["name", "below"],
        properties: {
          name: { type: "string", minLength: 3 },
          below: { type: "array", items: { $ref: "#/components/schemas/Node" } },
          berth: { type: "integer", minimum: 4 },
        },
      },
    },
  },
};

describe("a call that is filled in", () => {
  const found = find(document, "fares")!;
  const filled = {
    values: {
      "path route": "FAR/MAR é",
      "path files": "a b/c",
      "query tag": "one, two",
      "query plain": "x\ny",
      "header X-Seen": "yes",
    },
    body: '{"name":"Kettle"}',
    mediaType: "application/json",
    key: "k-1",
  };

  it("is what the contract says, each value where it belongs", () => {
    const way = { kind: "key", in: "header", name: "API-Key", how: "" };
    expect(callOf("http://gate/v1", found, [way], filled)).toEqual({
      method: "GET",
      url: "http://gate/v1/fares/FAR%2FMAR%20%C3%A9/a%20b/c?tag=one&tag=two&plain=x%2Cy",
      headers: [
        ["X-Seen", "yes"],
        ["API-Key", "k-1"],
        ["Content-Type", "application/json"],
      ],
      body: '{"name":"Kettle"}',
    });
    const inQuery = callOf("http://gate", found, [{ kind: "key", in: "query", name: "key", how: "" }], filled);
    expect(inQuery.url).toContain("&key=k-1");
    const asToken = callOf("http://gate", found, [{ kind: "key-as-token", how: "" }], filled);
    expect(asToken.headers).toContainEqual(["Authorization", "Bearer k-1"]);
    const nobody = callOf("http://gate", found, [], { ...filled, values: {}, body: " " });
    expect(nobody.headers).toEqual([]);
    expect(nobody.body).toBeUndefined();
  });

  it("says what is still missing", () => {
    expect(missing(found, { ...filled, values: { "path route": "x" } })).toEqual(["files"]);
    expect(missing(found, filled)).toEqual([]);
  });
});

describe("documentation", () => {
  it("makes samples of schemas that lead to themselves, and ends", () => {
    const made = sampleOf(document, { $ref: "#/components/schemas/Node" }) as { name: string; berth: number };
    expect(made.name).toBe("text");
    expect(made.berth).toBe(4);
    expect(JSON.stringify(made).length).toBeLessThan(500);
    expect(sampleOf(document, { $ref: "#/nowhere" })).toBe("text");
  });

  it("says types and what holds of them in words", () => {
    expect(typeOf(document, { type: "array", items: { $ref: "#/components/schemas/Node" } })).toBe("list of Node");
    expect(typeOf(document, { type: ["string", "null"] })).toBe("text or null");
    expect(limitsOf({ minimum: 1, maximum: 9, enum: [1, 2], default: 2 })).toEqual([
      "at least 1",
      "at most 9",
      "one of 1, 2",
      "2 unless given",
    ]);
  });

  it("shows members once, and names what is inside of itself", () => {
    show(<SchemaView document={document} schema={{ $ref: "#/components/schemas/Node" }} above={["Node"]} />);
    expect(screen.getByText("name")).toBeInTheDocument();
    expect(screen.getByText("as Node above")).toBeInTheDocument();
  });
});

describe("what came back", () => {
  it("says why in plain words, and what the limit has left", () => {
    show(
      <ReplyView
        reply={{
          status: 429,
          ms: 12,
          type: "application/problem+json",
          text: '{"title":"Too many requests","detail":"Wait."}',
          headers: [["ratelimit", '"sailings";r=0;t=85']],
        }}
      />,
    );
    expect(screen.getByText("Too many requests")).toBeInTheDocument();
    expect(screen.getByText("0 calls are left in the next 85 seconds")).toBeInTheDocument();
  });

  it("says when nothing did", () => {
    show(<ReplyView reply={{ status: 0, ms: 3, type: "", headers: [], why: "Failed to fetch" }} />);
    expect(screen.getByRole("alert")).toHaveTextContent("Nothing came back. Failed to fetch");
  });
});

/** The portal's service: answers by method and path. */
function answers(all: Record<string, unknown>): { asked: [string, unknown][] } {
  const asked: [string, unknown][] = [];
  vi.stubGlobal("fetch", (address: string, init: { method: string; body?: string }) => {
    const route = `${init.method} ${address.split("?")[0]}`;
    asked.push([`${init.method} ${address}`, init.body === undefined ? undefined : JSON.parse(init.body)]);
    const found = all[route];
    if (found === undefined)
      return Promise.resolve(new Response(JSON.stringify({ title: `no ${route}` }), { status: 404 }));
    return Promise.resolve(
      new Response(found === null ? null : JSON.stringify(found), { status: found === null ? 204 : 200 }),
    );
  });
  return { asked };
}

const portal = {
  title: "Skerry Line",
  summary: "",
  logo: false,
  front: "<p>Welcome</p>",
  pages: [],
  sign_up: true,
  gateway: "",
};
const offer = {
  name: "charter-hand",
  title: "Charter Hand",
  summary: "For partners.",
  opens: ["sailings", "berths/getBerth"],
  terms: { requests: 12000 },
  seen_by: "everyone",
  asked_by: "everybody who is signed in",
  granted: "by-person",
  lasts: 1_209_600_000,
  renewed: "never",
  accept: "2027-01",
  price: "By agreement.",
  when_changed: "keep",
};

describe("the portal's pages", () => {
  it("find operations by words, and say when nothing fits", async () => {
    const of = (found: unknown[]) => ({
      "GET /api/portal": portal,
      "GET /api/session": null,
      "GET /api/catalogue": { groups: [], found },
    });
    const operation = {
      id: "quoteFare",
      method: "GET",
      path: "/fares",
      summary: "What it costs",
      tags: [],
      deprecated: true,
      credentials: [],
    };
    const service = answers(of([{ facade: "sailings", title: "Sailings", operation }]));
    show(<Home />, "/", "/?search=fare");
    expect(await screen.findByRole("link", { name: "What it costs" })).toHaveAttribute(
      "href",
      "/facades/sailings/quoteFare",
    );
    expect(screen.getByText("going away")).toBeInTheDocument();
    expect(service.asked.map(([a]) => a)).toContain("GET /api/catalogue?search=fare");
    answers(of([]));
    show(<Home />, "/", "/?search=xyz");
    expect(await screen.findByText(/Nothing fits “xyz”/)).toBeInTheDocument();
  });

  it("ask for an offer once its text is accepted", async () => {
    const service = answers({
      "GET /api/portal": portal,
      "GET /api/session": { email: "a@b", name: "Ines", team: "Gullwing", roles: [], manages: true },
      "GET /api/offers": [{ offer, text: "<p>Terms</p>", may_ask: true }],
      "GET /api/applications": [{ name: "Desk", created_at: 0, paused: false, keys: [], agreements: [], requests: [] }],
      "POST /api/applications/Desk/requests": { ...offer, id: 1, consumer: "Desk", state: "open" },
    });
    show(<Offers />);
    const card = within(await screen.findByRole("region", { name: "Charter Hand" }));
    expect(card.getByText(/all of sailings, getBerth of berths/)).toBeInTheDocument();
    expect(card.getByText(/It lasts 14 days, and is had once/)).toBeInTheDocument();
    const ask = await card.findByRole("button", { name: "Ask for Charter Hand" });
    expect(ask).toBeDisabled();
    await userEvent.click(card.getByRole("checkbox"));
    await userEvent.click(ask);
    expect(await card.findByText("Asked. You are told what comes of it.")).toBeInTheDocument();
    expect(service.asked.find(([a]) => a.startsWith("POST"))?.[1]).toEqual({
      offer: "charter-hand",
      why: "",
      accept: "2027-01",
    });
  });
});
