import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";

import { Publish } from "../pages/publish/Publish";
import { isOwnHost, nameOf } from "../pages/publish/source";
import { looked, operation } from "./samples";
import { Refusal, Service, show } from "./stage";

const pushed = { changed: [], removed: [], kept: [], findings: [], unreleased: [], unreleased_offers: [] };

async function look(url: string) {
  await userEvent.type(screen.getByLabelText(/Address of a WSDL/), url);
  await userEvent.click(screen.getByRole("button", { name: "Look" }));
}

describe("publishing a backend", () => {
  it("looks, takes what is chosen, and puts it into the draft under its name", async () => {
    const service = new Service({
      "POST /api/look": looked([operation("getLabel"), operation("bookConsignment")]),
      "POST /api/derive": {
        files: { "cargo-desk.facade.yaml": "x" },
        operations: 1,
        findings: [],
        secrets: [],
        secrets_kept: [],
      },
      "GET /api/draft": [],
      "PUT /api/draft": pushed,
    });
    show(<Publish />);
    expect(screen.getByRole("button", { name: "Look" })).toBeDisabled();
    await look("http://cargo.example/desk?wsdl");
    await userEvent.click(await screen.findByLabelText("Publish bookConsignment"));
    const path = screen.getByLabelText("Path of getLabel");
    await userEvent.clear(path);
    await userEvent.type(path, "/labels");
    await userEvent.selectOptions(screen.getByLabelText("Method of getLabel"), "POST");
    await userEvent.type(screen.getByLabelText("Id of getLabel"), "2");
    await userEvent.click(screen.getByLabelText("Callers need a key"));
    await userEvent.type(screen.getByLabelText(/Requests of one address/), "7");
    await userEvent.click(screen.getByRole("button", { name: "Put 1 operations into the draft" }));
    expect(await screen.findByText("cargo-desk is in the draft.")).toBeInTheDocument();
    expect(service.bodies("POST /api/derive")).toMatchObject([
      {
        name: "cargo-desk",
        address: "http://cargo.example/desk",
        only: ["getLabel"],
        url: "http://cargo.example/desk?wsdl",
        operations: { getLabel: { id: "getLabel2", method: "POST", path: "/labels" } },
        key: false,
        limit: { requests: 7, window: "1m" },
      },
    ]);
    expect(service.bodies("PUT /api/draft")).toEqual([{ files: { "cargo-desk/cargo-desk.facade.yaml": "x" } }]);
    expect(screen.getByRole("link", { name: "Open the facade" })).toHaveAttribute("href", "/facades/cargo-desk");
    expect(screen.getByRole("link", { name: "getLabel2" })).toHaveAttribute("href", "/facades/cargo-desk/getLabel2");
  });

  it("makes sample calls once, and keeps their secrets when what names them is there", async () => {
    const described = { "sample.openapi.json": "{}" };
    const service = new Service({
      "POST /api/look": looked([operation("getTt")], { kind: "http", title: "tt", described }),
      "POST /api/derive": {
        files: {},
        operations: 1,
        findings: [],
        secrets: ["tt-password", "tt-token"],
        secrets_kept: ["tt-token"],
      },
      "GET /api/draft": [],
      "PUT /api/draft": pushed,
    });
    show(<Publish />);
    await userEvent.click(screen.getByText(/Or paste sample calls/));
    const sample = "curl http://127.0.0.1:3851/tt?r=FAR-MAR";
    await userEvent.type(screen.getByLabelText("Sample calls"), sample);
    await userEvent.click(screen.getByRole("checkbox", { name: /porch’s own host/ }));
    await userEvent.click(screen.getByRole("button", { name: "Look" }));
    await userEvent.click(await screen.findByRole("button", { name: /Put 1/ }));
    expect(await screen.findByText(/Secrets of the sample are set: tt-token/)).toBeInTheDocument();
    expect(screen.getByText(/left as they are: tt-password/)).toBeInTheDocument();
    expect(service.bodies("POST /api/look")).toMatchObject([{ sample, allow_local: true, files: {} }]);
    expect(service.bodies("POST /api/derive")).toMatchObject([
      { sample, files: described },
      { sample, files: described, keep_secrets: true },
    ]);
  });

  it("lets one of what a catalogue lists be chosen, and gives a login to its own server alone", async () => {
    const offer = (title: string, address: string) => ({ title, address, media_type: "" });
    const offers = [offer("Tides", "http://a.example/t"), offer("", "http://b.example/f")];
    const service = new Service({ "POST /api/look": looked([], { kind: "", title: "", offers }) });
    show(<Publish />);
    await look("http://a.example");
    expect(await screen.findByText("without a title")).toBeInTheDocument();
    // The form's own button is the first.
    for (const at of [1, 2]) {
      await userEvent.click(screen.getAllByRole("button", { name: "Look" })[at] as HTMLElement);
      await screen.findByText("without a title");
    }
    expect(service.bodies("POST /api/look")).toMatchObject([
      { url: "http://a.example" },
      { url: "http://a.example/t" },
      { url: "http://b.example/f", login: "" },
    ]);
  });

  it("begins without a backend", async () => {
    const service = new Service({
      "POST /api/look": looked([operation("getBerths")], { kind: "http", title: "berths", addresses: [] }),
      "POST /api/derive": { files: {}, operations: 1, findings: [], secrets: [], secrets_kept: [] },
      "GET /api/draft": [],
      "PUT /api/draft": pushed,
    });
    show(<Publish />);
    await userEvent.click(screen.getByText(/Or begin without a backend/));
    await userEvent.type(screen.getByLabelText("Operations"), "GET /berths");
    await userEvent.click(screen.getByRole("button", { name: "Look" }));
    await userEvent.type(await screen.findByLabelText("Name of the facade"), "2");
    expect(screen.queryByLabelText("Calls go to")).not.toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: /Put 1/ }));
    await screen.findByText("berths2 is in the draft.");
    expect(service.bodies("POST /api/look")).toMatchObject([{ exchanges: "GET /berths" }]);
    expect(service.bodies("POST /api/derive")).toMatchObject([{ name: "berths2", calls_nothing: true }]);
  });

  it("writes over nothing that the draft has", async () => {
    const service = new Service({
      "POST /api/look": looked([operation("getLabel")]),
      "POST /api/derive": { files: { "a.yaml": "x" }, operations: 1, findings: [], secrets: [], secrets_kept: [] },
      "GET /api/draft": [{ path: "cargo-desk/a.yaml", text: "", revision: 1, changed_by: "inge", changed_at: 0 }],
      "PUT /api/draft": pushed,
    });
    show(<Publish />);
    await look("cargo.example");
    await userEvent.click(await screen.findByRole("button", { name: /Put 1/ }));
    expect(await screen.findByText(/The draft has cargo-desk\/a.yaml already/)).toBeInTheDocument();
    expect(service.bodies("PUT /api/draft")).toEqual([]);
  });

  it("says why nothing was found", async () => {
    new Service({ "POST /api/look": new Refusal(422, { title: "No definition", detail: "It answers with HTML." }) });
    show(<Publish />);
    await look("cargo.example");
    expect(await screen.findByRole("alert")).toHaveTextContent("No definition It answers with HTML.");
  });

  it("shows what cannot be called, and does not offer it", async () => {
    const bad = operation("watch", { available: false, why: "it is a notification" });
    new Service({ "POST /api/look": looked([operation("get"), bad]) });
    show(<Publish />);
    await look("cargo.example");
    expect(await screen.findByLabelText("Publish watch")).toBeDisabled();
    expect(screen.getByText("cannot be called: it is a notification")).toBeInTheDocument();
    expect(screen.getByRole("button", { name: "Put 1 operations into the draft" })).toBeEnabled();
  });

  it("narrows hundreds of operations down and takes or leaves what is left", async () => {
    const many = Array.from({ length: 250 }, (_, i) => operation(`op${i}`, { documentation: i % 2 ? "odd" : "even" }));
    new Service({ "POST /api/look": looked(many) });
    show(<Publish />);
    await look("cargo.example");
    expect(await screen.findByText(/The first 50 of 250 are shown/)).toBeInTheDocument();
    await userEvent.type(screen.getByLabelText("Search operations"), "odd");
    expect(screen.getByText(/The first 50 of 125 are shown/)).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "Leave these out" }));
    expect(screen.getByText("125 of 250 are taken.")).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "Take these 125" }));
    expect(screen.getByText("250 of 250 are taken.")).toBeInTheDocument();
  });

  it("asks before the porch's own host is called", async () => {
    const service = new Service({ "POST /api/look": looked([operation("get")]) });
    show(<Publish />);
    await userEvent.type(screen.getByLabelText(/Address of a WSDL/), "http://localhost:3850/?wsdl");
    await userEvent.click(screen.getByLabelText(/the porch’s own host/));
    await userEvent.click(screen.getByRole("button", { name: "Look" }));
    await screen.findByText("Books cargo.");
    expect(service.bodies("POST /api/look")).toMatchObject([{ allow_local: true }]);
  });

  it("carries the button that allows an address beside the message that it must be", async () => {
    const service = new Service({
      "POST /api/look": (body) => {
        if (body.allow_local) return looked([operation("get")]);
        throw new Refusal(422, { title: "The address must be allowed first" });
      },
    });
    show(<Publish />);
    await look("quay.example");
    await userEvent.click(await screen.findByRole("button", { name: "Allow quay.example and look" }));
    await screen.findByText("Books cargo.");
    expect(service.bodies("POST /api/look")).toMatchObject([{ allow_local: false }, { allow_local: true }]);
  });

  it("lets the address be chosen where a definition names several", async () => {
    const port = { service: "Desk", name: "Quay", binding: "b", version: "1.2" as const, address: "http://b.example" };
    const two = looked([operation("get")], { addresses: ["http://a.example", "http://b.example"], ports: [port] });
    const service = new Service({
      "POST /api/look": two,
      "POST /api/derive": { files: {}, operations: 1, findings: [], secrets: [], secrets_kept: [] },
      "GET /api/draft": [],
      "PUT /api/draft": pushed,
    });
    show(<Publish />);
    await look("cargo.example");
    const choice = within(await screen.findByRole("group", { name: "Calls go to" }));
    expect(choice.getByText("Quay of Desk, SOAP 1.2")).toBeInTheDocument();
    await userEvent.click(choice.getByRole("radio", { name: /b\.example/ }));
    await userEvent.click(screen.getByRole("button", { name: /Put 1/ }));
    await screen.findByText("cargo-desk is in the draft.");
    expect(service.bodies("POST /api/derive")).toMatchObject([{ address: "http://b.example" }]);
  });

  it("makes names of titles and knows addresses of its own host", () => {
    expect(["CargoDesk", " Fleet  Service!", "skerry.fleet.v1"].map(nameOf)).toEqual([
      "cargo-desk",
      "fleet-service",
      "skerry-fleet-v1",
    ]);
    const own = ["http://localhost/x", "127.0.0.1:3850", "https://[::1]:1", "0.0.0.0:1", "169.254.1.1"];
    expect(own.every(isOwnHost)).toBe(true);
    expect(["http://cargo.example", "https://localhost.example/", "10.0.0.1"].map(isOwnHost)).toEqual([
      false,
      true,
      false,
    ]);
  });

  it("brings a facade of the draft up to a contract that was edited elsewhere", async () => {
    const update = {
      files: { "tt/tt.openapi.yaml": "x" },
      removed: [],
      changes: ["“departures” is called “listDepartures” now: its wiring follows"],
      findings: [],
      revisions: { "tt/tt.openapi.yaml": 4 },
    };
    const service = new Service({
      "POST /api/look": looked([operation("listDepartures")], { kind: "http", title: "Other" }),
      "GET /api/facades": [
        { name: "cargo", status: "same" },
        { name: "tt", status: "same" },
      ] as never,
      "POST /api/update": update,
      "PUT /api/draft": pushed,
    });
    show(<Publish />, "/publish", "/publish?facade=tt");
    await look("http://tt.example/openapi.json");
    expect(await screen.findByLabelText("Facade")).toHaveValue("tt");
    await userEvent.click(screen.getByRole("button", { name: "Show the differences" }));
    expect(await screen.findByText(/is called “listDepartures” now/)).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "Put 1 changed files into the draft" }));
    expect(await screen.findByText("tt is up to it in the draft.")).toBeInTheDocument();
    expect(service.bodies("POST /api/update")).toMatchObject([{ name: "tt", url: "http://tt.example/openapi.json" }]);
    expect(service.bodies("PUT /api/draft")).toEqual([
      { files: update.files, remove: [], revisions: update.revisions },
    ]);
  });

  it("takes the answer of an address without a definition as a sample", async () => {
    const service = new Service({
      "POST /api/look": (body: unknown) => {
        if ((body as { sample?: string }).sample) return looked([operation("getTt")], { kind: "http", title: "tt" });
        throw new Refusal(422, { title: "this is no definition that can be read" });
      },
    });
    show(<Publish />);
    await look("http://tt.example/tt?r=FAR-MAR");
    await userEvent.click(await screen.findByRole("button", { name: /take what it answers as a sample/ }));
    expect(await screen.findByText("Name it")).toBeInTheDocument();
    expect(service.bodies("POST /api/look")[1]).toMatchObject({ sample: "curl 'http://tt.example/tt?r=FAR-MAR'" });
  });
});
