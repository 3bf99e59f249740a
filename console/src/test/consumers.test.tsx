import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";

import { Consumers } from "../pages/consumers/Consumers";
import { OneConsumer } from "../pages/consumers/OneConsumer";
import { Quotas } from "../pages/Quotas";
import { consumer } from "./samples";
import { Refusal, Service, show } from "./stage";

const showOne = () => show(<OneConsumer />, "/consumers/:consumer", "/consumers/Tide%20Clock");

describe("consumers", () => {
  it("are listed with what they may be, searched by the service, and shown a page at a time", async () => {
    const many = Array.from({ length: 100 }, (_, i) => ({ ...consumer, name: `Clock ${i}` }));
    const service = new Service({ "GET /api/consumers": many });
    show(<Consumers />);
    expect(await screen.findByRole("link", { name: "Clock 7" })).toHaveAttribute("href", "/consumers/Clock%207");
    expect(screen.getAllByText("pilot")).toHaveLength(100);
    await userEvent.click(screen.getByRole("button", { name: "Next 100" }));
    const asked = () => service.asked.map((a) => a.address).at(-1);
    await vi.waitFor(() => expect(asked()).toContain("after=Clock+99"));
    await userEvent.type(await screen.findByLabelText("Search names, owners and labels"), "t");
    await vi.waitFor(() => expect(asked()).toBe("/api/consumers?search=t&most=100"));
  });

  it("say when nobody is registered, and why somebody cannot be", async () => {
    new Service({
      "GET /api/consumers": [],
      "POST /api/consumers": new Refusal(409, { title: "There is a consumer “Tide Clock” already" }),
    });
    show(<Consumers />);
    expect(await screen.findByText("Nobody is registered yet.")).toBeInTheDocument();
    await userEvent.type(screen.getByLabelText("Name of a new consumer"), "Tide Clock");
    await userEvent.click(screen.getByRole("button", { name: "Register" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("already");
  });
});

describe("one consumer", () => {
  it("shows a new key once and the state of older ones", async () => {
    const service = new Service({
      "GET /api/consumers/{consumer}": consumer,
      "POST /api/consumers/{consumer}/keys": { ...consumer.keys[0]!, key: "ep_abc_whole" },
      "PUT /api/keys/{prefix}": consumer.keys[0]!,
      "POST /api/keys/{prefix}/renew": {
        new: { ...consumer.keys[0]!, key: "ep_new_whole" },
        old: consumer.keys[0]!,
      },
    });
    showOne();
    const one = within(await screen.findByRole("region", { name: "Keys" }));
    expect(one.getByText("good")).toBeInTheDocument();
    expect(one.getByText(/^ended/)).toBeInTheDocument();
    await userEvent.type(one.getByLabelText("Label of a new key"), "second");
    await userEvent.click(one.getByRole("button", { name: "Make a key" }));
    expect(await one.findByText("ep_abc_whole")).toBeInTheDocument();
    expect(service.bodies("POST /api/consumers/{consumer}/keys")).toEqual([{ label: "second" }]);
    await userEvent.click(one.getByRole("button", { name: "End for good: ep_abc" }));
    const question = within(await screen.findByRole("alertdialog"));
    expect(question.getByText(/with this key get 401 from now on/)).toBeInTheDocument();
    await userEvent.click(question.getByRole("button", { name: "End for good" }));
    // One that has ended has nothing left to be done to it.
    expect(one.getAllByRole("button", { name: /^End for good: / })).toHaveLength(1);
    expect(service.bodies("PUT /api/keys/{prefix}")).toEqual([{ ends_at: 0 }]);
    await userEvent.click(one.getByRole("button", { name: "Renew ep_abc" }));
    expect(await one.findByText("ep_new_whole")).toBeInTheDocument();
    expect(one.getByText(/ep_abc…, is good for 7 days more/)).toBeInTheDocument();
    expect(service.asked.map((a) => a.address)).toContain("/api/consumers/Tide%20Clock/keys");
  });

  it("gets roles and labels, a password, and an agreement with numbers and texts", async () => {
    const service = new Service({
      "GET /api/consumers/{consumer}": consumer,
      "PATCH /api/consumers/{consumer}": null,
      "PUT /api/consumers/{consumer}/password": { name: "Tide Clock", created_at: 0 },
      "POST /api/consumers/{consumer}/agreements": consumer.agreements[0]!,
      "POST /api/agreements/{agreement}/end": consumer.agreements[0]!,
      "POST /api/consumers/{consumer}/signing-keys": { keyid: "", kind: "", created_at: 0 },
      "POST /api/consumers/{consumer}/clients": { name: "", issuer: "", client: "", created_at: 0 },
      "POST /api/consumers/{consumer}/certificates": { known_by: "", created_at: 0 },
      "DELETE /api/certificates/{known_by}": null,
    });
    showOne();
    const itself = within(await screen.findByRole("region", { name: "Itself" }));
    await userEvent.type(itself.getByLabelText("Roles, with commas"), ", clerk ,");
    await userEvent.click(itself.getByRole("button", { name: "Save" }));
    expect(service.bodies("PATCH /api/consumers/{consumer}")).toEqual([
      { owner: "a hobby project", roles: ["pilot", "clerk"], labels: [] },
    ]);
    const names = within(screen.getByRole("region", { name: "Names and passwords" }));
    const set = names.getByRole("button", { name: "Set the password" });
    await userEvent.type(names.getByLabelText(/^Password/), "tern rock");
    expect(set).toBeDisabled();
    await userEvent.type(names.getByLabelText(/^Password/), " at seven");
    await userEvent.click(set);
    expect(service.bodies("PUT /api/consumers/{consumer}/password")).toEqual([
      { name: "Tide Clock", password: "tern rock at seven" },
    ]);
    const tokens = within(screen.getByRole("region", { name: "Tokens" }));
    await userEvent.type(tokens.getByLabelText(/^Issuer/), "https://login.skerry.example");
    await userEvent.type(tokens.getByLabelText(/^Client/), "roster-app");
    await userEvent.click(tokens.getByRole("button", { name: "Take its tokens" }));
    expect(service.bodies("POST /api/consumers/{consumer}/clients")).toEqual([
      { issuer: "https://login.skerry.example", client: "roster-app" },
    ]);
    const signing = within(screen.getByRole("region", { name: "Signing keys" }));
    expect(signing.getByText("Ed25519")).toBeInTheDocument();
    await userEvent.type(signing.getByLabelText(/keyid/), "clock-2");
    await userEvent.type(signing.getByLabelText(/^Public key/), "PEM");
    await userEvent.click(signing.getByRole("button", { name: "Take the key" }));
    expect(service.bodies("POST /api/consumers/{consumer}/signing-keys")).toEqual([
      { keyid: "clock-2", public_key: "PEM" },
    ]);
    const certificates = within(screen.getByRole("region", { name: "Certificates" }));
    const takes = certificates.getByRole("button", { name: "Take the certificate" });
    await userEvent.type(certificates.getByLabelText(/^Or a name in it/), "dns:clock-2.example");
    await userEvent.type(certificates.getByLabelText(/^Certificate, in PEM/), "PEM");
    expect(takes).toBeDisabled();
    await userEvent.clear(certificates.getByLabelText(/^Certificate, in PEM/));
    await userEvent.click(takes);
    expect(service.bodies("POST /api/consumers/{consumer}/certificates")).toEqual([
      { known_by: "dns:clock-2.example" },
    ]);
    await userEvent.click(certificates.getByRole("button", { name: "Take away dns:clock.example" }));
    await userEvent.click(within(await screen.findByRole("alertdialog")).getByRole("button", { name: "Take away" }));
    expect(service.asked.map((a) => a.address)).toContain("/api/certificates/dns%3Aclock.example");
    const agreements = within(screen.getByRole("region", { name: "Agreements" }));
    expect(agreements.getByText("requests=7")).toBeInTheDocument();
    await userEvent.type(agreements.getByLabelText("What was offered"), "Charter Hand");
    await userEvent.type(agreements.getByLabelText(/^Terms/), "requests=300, berth=north = 2");
    await userEvent.click(agreements.getByRole("button", { name: "Note the agreement" }));
    expect(service.bodies("POST /api/consumers/{consumer}/agreements")).toEqual([
      { offer: "Charter Hand", terms: { requests: 300, berth: "north = 2" } },
    ]);
    await userEvent.click(agreements.getByRole("button", { name: "End agreement 3" }));
    const question = within(await screen.findByRole("alertdialog"));
    await userEvent.click(question.getByRole("button", { name: "End" }));
    expect(service.bodies("POST /api/agreements/{agreement}/end")).toEqual([{}]);
  });

  it("is deleted behind a word on what would break", async () => {
    new Service({ "GET /api/consumers/{consumer}": consumer, "DELETE /api/consumers/{consumer}": null });
    const router = showOne();
    await userEvent.click(await screen.findByRole("button", { name: "Delete Tide Clock" }));
    const question = within(await screen.findByRole("alertdialog"));
    expect(question.getByText(/Its 4 credentials end at once/)).toHaveTextContent("sailings / quoteFare 12 times");
    await userEvent.click(question.getByRole("button", { name: "Delete" }));
    await vi.waitFor(() => expect(router.state.location.pathname).toBe("/consumers"));
  });
});

describe("quotas", () => {
  it("say how far they are used, take more once with a reason, and list what was told", async () => {
    const service = new Service({
      "GET /api/quotas": [
        {
          facade: "berths",
          rule: "quota 40 each month per consumer",
          reach: "facade berths",
          whose: "Gullwing Tours",
          used: 33,
          most: 40,
          added: 0,
          from_at: 0,
          until_at: 1,
        },
      ],
      "GET /api/events": [
        {
          at: 0,
          kind: "quota",
          facade: "berths",
          consumer: "Gullwing Tours",
          detail: { share: 80, used: 32, most: 40, rule: "quota 40 each month per consumer" },
        },
      ],
      "POST /api/quotas": null,
    });
    show(<Quotas />);
    expect(await screen.findByText("82 %")).toBeInTheDocument();
    expect(await screen.findByText(/80 % is used: 32 of 40/)).toBeInTheDocument();
    const add = within(screen.getByRole("region", { name: "Add" }));
    const more = add.getByRole("button", { name: "Add until its period ends" });
    await userEvent.type(add.getByLabelText("Consumer"), "Gullwing Tours");
    await userEvent.type(add.getByLabelText("Facade"), "berths");
    await userEvent.type(add.getByLabelText("How much more"), "20");
    expect(more).toBeDisabled();
    await userEvent.type(add.getByLabelText("Why"), "regatta");
    await userEvent.click(more);
    expect(service.bodies("POST /api/quotas")).toEqual([
      { consumer: "Gullwing Tours", facade: "berths", amount: 20, why: "regatta" },
    ]);
    expect(await add.findByText(/stands in the audit/)).toBeInTheDocument();
  });
});
