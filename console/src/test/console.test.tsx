import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";

import { Root } from "../app/Root";
import { Documents } from "../pages/documents/Documents";
import { FacadePage } from "../pages/facade/FacadePage";
import { OperationPage } from "../pages/operation/OperationPage";
import { Overview } from "../pages/overview/Overview";
import { TracePage } from "../pages/traces/TracePage";
import { Usage } from "../pages/Usage";
import { difference, overview, trace } from "./samples";
import { Refusal, Service, show } from "./stage";

const session = { name: "inge", role: "administrator" };

describe("the frame", () => {
  it("asks for a login, and shows the console once there is one", async () => {
    const service = new Service({
      "GET /api/session": new Refusal(401, { title: "Sign in" }),
      "POST /api/session": session,
      "GET /api/overview": { ...overview, unreleased: [difference("sailings"), difference("vessels")] },
    });
    show(<Root />);
    await userEvent.type(await screen.findByLabelText(/Name/), "inge");
    await userEvent.type(screen.getByLabelText(/Password/), "harbour-lights");
    service.answers["GET /api/session"] = session;
    await userEvent.click(screen.getByRole("button", { name: /Sign in/ }));
    expect(await screen.findByText("inge, administrator")).toBeInTheDocument();
    expect(await screen.findByLabelText("2 not released")).toBeInTheDocument();
    expect(screen.getByText("live: release 3")).toBeInTheDocument();
  });

  it("says so when the service does not answer", async () => {
    new Service({ "GET /api/session": new Refusal(503, { title: "No database", detail: "Start it." }) });
    show(<Root />);
    expect(await screen.findByRole("alert")).toHaveTextContent("No database Start it.");
  });
});

describe("where things stand", () => {
  it("shows first what somebody should know", async () => {
    new Service({
      "GET /api/overview": {
        ...overview,
        trouble: "The database does not answer",
        errors: 1,
        unreleased: [difference("sailings")],
        paused: [["vessels", "listVessels"]],
        lost_records: 4,
      },
    });
    show(<Overview />);
    expect(await screen.findByText("The database does not answer")).toBeInTheDocument();
    expect(screen.getByText(/The draft has 1 error\./)).toBeInTheDocument();
    expect(screen.getByText(/Paused: vessels listVessels/)).toBeInTheDocument();
    expect(screen.getByRole("link", { name: "sailings" })).toHaveAttribute("href", "/facades/sailings");
    expect(screen.getByText("4 records were lost")).toBeInTheDocument();
    expect(screen.getByRole("img", { name: /at most 59/ })).toBeInTheDocument();
  });

  it("leads a newcomer on", async () => {
    new Service({ "GET /api/overview": { ...overview, release: 0, minutes: [] } });
    show(<Overview />);
    expect(await screen.findByRole("link", { name: "Publish a backend" })).toHaveAttribute("href", "/publish");
  });
});

describe("documents", () => {
  const file = { path: "s/s.facade.yaml", text: "name: s\n", revision: 7, changed_by: "tove", changed_at: 0 };

  it("saves what was changed with the revision it was read at, and says what is not live", async () => {
    const service = new Service({
      "GET /api/draft": [{ ...file, path: "a.wsdl", text: "<x/>" }, file],
      "PUT /api/draft": { changed: [], removed: [], kept: [], findings: [], unreleased: ["s"], unreleased_offers: [] },
    });
    show(<Documents />);
    const text = await screen.findByLabelText("Text of s/s.facade.yaml");
    expect(screen.getByRole("button", { name: "Save to the draft" })).toBeDisabled();
    await userEvent.type(text, "title: S");
    await userEvent.click(screen.getByRole("button", { name: "Save to the draft" }));
    expect(await screen.findByText("Saved, not released: s")).toBeInTheDocument();
    expect(service.bodies("PUT /api/draft")).toEqual([
      { files: { "s/s.facade.yaml": "name: s\ntitle: S" }, revisions: { "s/s.facade.yaml": 7 } },
    ]);
  });

  it("keeps what was typed when somebody else was quicker", async () => {
    new Service({
      "GET /api/draft": [file],
      "PUT /api/draft": new Refusal(409, { title: "Somebody changed it in the meantime" }),
    });
    show(<Documents />);
    const text = await screen.findByLabelText("Text of s/s.facade.yaml");
    await userEvent.type(text, "mine");
    await userEvent.click(screen.getByRole("button", { name: "Save to the draft" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("in the meantime");
    expect(text).toHaveValue("name: s\nmine");
  });
});

describe("facades and operations", () => {
  it("pauses a facade, and tells the draft from what is served", async () => {
    const service = new Service({
      "GET /api/facades/{facade}": {
        name: "sailings",
        title: "Sailings",
        base: "/sailings",
        version: "2.0.0",
        description: "",
        address: "http://127.0.0.1:3821/sailings",
        status: "changed",
        paused: false,
        operations: [
          {
            id: "quoteFare",
            method: "GET",
            path: "/f",
            summary: "",
            backend: "r",
            examples: false,
            calls: 5,
            refused: 1,
            failed: 0,
            paused: false,
          },
          {
            id: "later",
            method: "GET",
            path: "/l",
            summary: "",
            backend: "",
            examples: false,
            calls: 0,
            refused: 0,
            failed: 0,
            paused: false,
          },
        ],
        files: ["s.facade.yaml"],
        findings: [],
      },
      "PUT /api/facades/{facade}/pause": null,
      "POST /api/backtests": {
        since_at: 0,
        calls: 400,
        findings: [],
        limits: [
          {
            rule: "limit 5 in 2m per consumer",
            reach: "operation quoteFare",
            not_tried: "",
            calls: 400,
            refused: 30,
            whose: [
              {
                name: "Tide Clock",
                calls: 50,
                refused: 30,
                minutes: 4,
                first_at: 0,
                last_at: 0,
                worst_at: 0,
                worst: 9,
              },
              { name: "Gullwing Tours", calls: 350, refused: 0, minutes: 0, worst: 0 },
            ],
          },
          {
            rule: "limit 9 in 1m per address",
            reach: "facade",
            not_tried: "not recorded",
            calls: 0,
            refused: 0,
            whose: [],
          },
        ],
      },
    });
    show(<FacadePage />, "/facades/:facade", "/facades/sailings");
    expect(await screen.findByText(/callers are served something else/)).toBeInTheDocument();
    expect(screen.getByText("not wired")).toBeInTheDocument();
    const limits = within(screen.getByRole("region", { name: "Limits" }));
    await userEvent.selectOptions(limits.getByLabelText("Look back"), "31 days");
    await userEvent.click(limits.getByRole("button", { name: "Try them" }));
    expect(await limits.findByText("30 of 400 calls would have been refused")).toBeInTheDocument();
    expect(limits.getByText("not tried: not recorded")).toBeInTheDocument();
    expect(limits.getByText("Tide Clock")).toBeInTheDocument();
    expect(limits.queryByText("Gullwing Tours")).not.toBeInTheDocument();
    expect(service.bodies("POST /api/backtests")).toEqual([{ facade: "sailings", days: 31 }]);
    await userEvent.click(screen.getByRole("button", { name: /^Pause/ }));
    const question = within(await screen.findByRole("alertdialog"));
    expect(question.getByText(/Every caller gets 503 at once/)).toBeInTheDocument();
    await userEvent.click(question.getByRole("button", { name: "Pause" }));
    expect(service.bodies("PUT /api/facades/{facade}/pause")).toEqual([{ paused: true }]);
  });

  it("runs a trial with what the contract gives, and shows every stage", async () => {
    const row = {
      caller: "path route",
      caller_type: "string",
      what: "as it is",
      backend: "Route",
      backend_type: "string",
      required: true,
    };
    const call = {
      name: "",
      backend: "reservations",
      turn: 0,
      needs: [],
      when: "",
      each: "",
      pages: "",
      messages: "",
      writes: false,
      otherwise: false,
      undone: false,
    };
    const service = new Service({
      "GET /api/facades/{facade}/operations/{operation}": {
        facade: "sailings",
        id: "quoteFare",
        method: "POST",
        path: "/fares/{route}",
        summary: "",
        backend: "reservations",
        call: "QuoteFare",
        status: "same",
        table: {
          request: [row, { ...row, caller: "cookie desk" }, { ...row, caller: "cookie lang", required: false }],
          reply: [],
          sample: {
            path: { route: "FAR-MAR" },
            query: { day: "", port: ["FAR", "MAR"] },
            cookies: { desk: "D1" },
            text: '{"seats":2}',
          },
        },
        rules: [
          { rule: "limit 5 per 2m", reach: "facade sailings", file: "s.yaml", line: 9, stage: "admit" },
          {
            ...{ rule: "body at most 9 bytes", reach: "operation quoteFare", file: "s.yaml", line: 12 },
            stage: "overridden",
            overridden_by: { rule: "body at most 5 bytes", reach: "everywhere", file: "house.yaml", line: 4 },
          },
        ],
        calls: [
          {
            ...call,
            name: "place",
            backend: "tides",
            pages: "answer.body.next",
            messages: "of its messages at most 3 are a list",
          },
          { ...call, name: "list", turn: 1, needs: ["place"], each: "place.body.quays", otherwise: true },
          { ...call, name: "hold", turn: 1, when: "query.day != ''", writes: true, undone: true },
        ],
        refusals: [
          { when: "place.status == 404", status: 404, title: "No such place", needs: ["place"] },
          { when: "path.route == ''", status: 422, title: "No route", needs: [] },
        ],
      },
      "POST /api/trials": { status: 200, headers: [], body: '{"fare":1.50}', trace, released: false },
    });
    show(<OperationPage />, "/facades/:facade/:operation", "/facades/sailings/quoteFare");
    expect(await screen.findByText("limit 5 per 2m")).toBeInTheDocument();
    expect(screen.getByRole("link", { name: "s.yaml:9" })).toHaveAttribute("href", "/documents?file=s.yaml&line=9");
    const lost = within(screen.getByText("body at most 9 bytes").closest("li")!);
    expect(lost.getByText(/holds in its place: body at most 5 bytes · everywhere/)).toBeInTheDocument();
    expect(lost.getByRole("link", { name: "house.yaml:4" })).toBeInTheDocument();
    const body = screen.getByLabelText("Body");
    await userEvent.clear(body);
    // Digits that no binary float has go as they are typed.
    await userEvent.type(body, "12345678901234567890.10");
    const ports = screen.getByLabelText("query port");
    expect(ports).toHaveValue("FAR, MAR");
    await userEvent.clear(ports);
    await userEvent.type(ports, "FAR, HOL");
    await userEvent.type(screen.getByLabelText("header Accept"), "application/xml");
    expect(screen.getByLabelText("cookie desk")).toHaveValue("D1");
    await userEvent.type(screen.getByLabelText("cookie lang"), "nn");
    const calls = within(screen.getByRole("list", { name: /^Calls/ }));
    expect(calls.getByText("needs place")).toBeInTheDocument();
    expect(calls.getByText(/page after page, as long as there is/)).toBeInTheDocument();
    expect(calls.getByText("of its messages at most 3 are a list")).toBeInTheDocument();
    expect(calls.getByText("Then, at once")).toBeInTheDocument();
    expect(calls.getByText("changes something, and is undone when it must be")).toBeInTheDocument();
    const refusals = within(screen.getByRole("list", { name: /^Refusals/ }));
    expect(refusals.getByText(/as soon as place answered/)).toBeInTheDocument();
    expect(refusals.getByText(/before anything is called/)).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: /Answers in place of calls/ }));
    await userEvent.type(screen.getByLabelText("status of place"), "4040");
    await userEvent.click(screen.getByLabelText("Body of list"));
    await userEvent.paste('{"Sailings":[]}');
    await userEvent.click(screen.getByRole("button", { name: "Run" }));
    expect(await screen.findByText(/“4040” is no status that place can answer with/)).toBeInTheDocument();
    await userEvent.type(screen.getByLabelText("status of place"), "{Backspace}");
    const field = screen.getByLabelText("exchange whose answers stand in place of its calls");
    await userEvent.type(field, " 7f5a-50 ");
    await userEvent.click(screen.getByRole("button", { name: "Run" }));
    const result = within(await screen.findByRole("region", { name: "Result of the trial run" }));
    expect(result.getByText(/callers are not served this draft yet/)).toBeInTheDocument();
    expect(service.bodies("POST /api/trials")).toEqual([
      {
        facade: "sailings",
        operation: "quoteFare",
        path: { route: "FAR-MAR" },
        query: { port: ["FAR", "HOL"] },
        headers: { Accept: "application/xml", Cookie: "desk=D1; lang=nn" },
        text: "12345678901234567890.10",
        answers: { place: { status: 404, body: null }, list: { status: 200, body: { Sailings: [] } } },
        answers_of: "7f5a-50",
      },
    ]);
  });
});

describe("watching", () => {
  it("explains an exchange in sentences", async () => {
    new Service({ "GET /api/traces/{id}": { explanation: ["The key was ended."], trace: { ...trace, stages: [] } } });
    show(<TracePage />, "/traces/:id", `/traces/${trace.id}`);
    expect(await screen.findByText("The key was ended.")).toBeInTheDocument();
    expect(screen.getByText(/Only the outcome was kept/)).toBeInTheDocument();
    expect(screen.queryByRole("link", { name: /with the answers of this exchange/ })).toBeNull();
  });

  it("leads from an exchange to a trial run with its answers", async () => {
    const stage = { name: "call", from_us: 0, us: 1, notes: [] };
    const stages = [stage] as unknown as typeof trace.stages;
    new Service({ "GET /api/traces/{id}": { explanation: [], trace: { ...trace, stages } } });
    show(<TracePage />, "/traces/:id", `/traces/${trace.id}`);
    const link = await screen.findByRole("link", { name: /with the answers of this exchange/ });
    const to = `/facades/${trace.facade}/${trace.operation}?answers-of=${trace.id}`;
    expect(link).toHaveAttribute("href", to);
  });

  it("lists usage, also of what was not found and of callers without a key", async () => {
    const line = {
      facade: "",
      operation: "",
      consumer: "",
      calls: 3,
      refused: 3,
      failed: 0,
      bytes_in: 0,
      bytes_out: 9,
      misfits: 2,
      p50_us: 1,
      p99_us: 2,
    };
    new Service({ "GET /api/usage": [line], "GET /api/copies": [] });
    show(<Usage />);
    expect(await screen.findByText("nothing found")).toBeInTheDocument();
    expect(screen.getByText("without a key")).toBeInTheDocument();
    expect(screen.queryByText("Copies to other backends")).toBeNull();
  });

  it("lists what copies of calls gave", async () => {
    const line = {
      facade: "timetable",
      operation: "departures",
      backend: "timetable-next",
      same: 40,
      different: 2,
      failed: 1,
      left_out: 0,
      mean_us: 900,
      copies_mean_us: 1100,
      told: "status 404 against 200",
    };
    new Service({ "GET /api/usage": [], "GET /api/copies": [line] });
    show(<Usage />);
    expect(await screen.findByText("timetable / departures")).toBeInTheDocument();
    expect(screen.getByText("status 404 against 200")).toBeInTheDocument();
    expect(screen.getByText("1.1 ms")).toBeInTheDocument();
  });
});
