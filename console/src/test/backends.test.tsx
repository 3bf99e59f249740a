import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";

import type { BackendView, ProbedAddress } from "../api/schema";
import { Backends } from "../pages/backends/Backends";
import { Refusal, Service, show } from "./stage";

const backend = (name: string, more: Partial<BackendView> = {}): BackendView => ({
  name,
  title: "",
  kind: "http",
  addresses: [`https://${name}.example`],
  credentials: [],
  facades: [name],
  file: `${name}.backend.yaml`,
  resting: 0,
  out: [],
  ...more,
});

const address = (more: Partial<ProbedAddress>): ProbedAddress => ({
  address: "https://tides.example",
  asked: "GET /",
  reached: true,
  refused: false,
  told: "200 OK",
  help: "",
  at: "192.0.2.7:443",
  tls: "",
  certificate: null,
  us: 1200,
  ...more,
});

describe("backends", () => {
  it("are listed with what they are shown, and asked one by one", async () => {
    const certificate = { subject: "CN=tides", issuer: "CN=quay", names: ["tides.example"], ends: 0 };
    const service = new Service({
      "GET /api/backends": [backend("tides", { credentials: ["a bearer token"] }), backend("fleet", { kind: "grpc" })],
      "POST /api/backends/{backend}/probe": {
        name: "tides",
        kind: "http",
        shown: ["a bearer token"],
        addresses: [
          address({ tls: "TLS 1.3", certificate }),
          address({ address: "http://b.example", refused: true, told: "401 Unauthorized" }),
          address({ address: "http://c.example", reached: false, told: "nothing answers there" }),
        ],
      },
    });
    show(<Backends />);
    expect(await screen.findByText("gRPC")).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "Is it there? tides" }));
    const found = within(await screen.findByRole("region", { name: "What was found of tides" }));
    expect(found.getByText("Calls are shown: a bearer token.")).toBeInTheDocument();
    expect(found.getByText(/certificate CN=tides for tides.example, ended 1970-01-01/)).toBeInTheDocument();
    expect(found.getByText("refused")).toBeInTheDocument();
    expect(found.getByText(/nothing answers there/)).toBeInTheDocument();
    expect(service.bodies("POST /api/backends/{backend}/probe")).toHaveLength(1);
  });

  it("say for how long they are left alone", async () => {
    new Service({ "GET /api/backends": [backend("tides"), backend("timetable", { resting: 7 })] });
    show(<Backends />);
    expect(await screen.findByText(/left alone for 7 s/)).toBeInTheDocument();
    expect(screen.getAllByText(/left alone/)).toHaveLength(1);
  });

  it("say which of their addresses are not well", async () => {
    const out = [{ address: "https://two.tides.example", told: "503 Service Unavailable" }];
    new Service({ "GET /api/backends": [backend("tides", { out }), backend("timetable")] });
    show(<Backends />);
    const told = "https://two.tides.example is not well: 503 Service Unavailable";
    expect(await screen.findByText(told)).toBeInTheDocument();
    expect(screen.getAllByText(/not well/)).toHaveLength(1);
  });

  it("say why they cannot be asked", async () => {
    new Service({
      "GET /api/backends": [backend("tides")],
      "POST /api/backends/{backend}/probe": new Refusal(422, { title: "No facade of the draft calls tides" }),
    });
    show(<Backends />);
    await userEvent.click(await screen.findByRole("button", { name: "Is it there? tides" }));
    expect(await screen.findByText("No facade of the draft calls tides")).toBeInTheDocument();
  });
});
