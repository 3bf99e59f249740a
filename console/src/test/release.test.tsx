import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";

import { ReleasePage } from "../pages/release/ReleasePage";
import { difference } from "./samples";
import { Refusal, Service, show } from "./stage";

const release = (number: number, served: boolean) => ({
  number,
  environment: "live",
  taken: ["sailings"],
  facades: ["sailings", "vessels"],
  note: "",
  made_by: "inge",
  made_at: 0,
  served,
});
const released = {
  number: 4,
  taken: ["vessels"],
  carried_over: [],
  removed: [],
  offered: [],
  no_longer_offered: [],
  followed: 0,
  findings: [],
  serves: [{ name: "vessels", version: "1.0.0", address: "http://127.0.0.1:3810/vessels/v1", operations: 9 }],
  call: { facade: "vessels", operation: "listVessels", method: "GET", path: "/vessels/v1/vessels?states=MOORED" },
};

describe("comparing and releasing", () => {
  it("names what breaks callers, and who they are", async () => {
    new Service({
      "GET /api/offers/compare": { offers: [], portal_files: {} },
      "GET /api/compare": [
        difference("sailings", {
          changes: [{ harm: "breaks", operation: "quoteFare", what: "the member “fare” is gone" }],
          used_by: [{ operation: "quoteFare", consumer: "Tide Clock", calls: 12 }],
          files: { "sailings.facade.yaml": "--- a\n+++ b\n-old\n+new" },
          shared: [{ file: "house.rules.yaml", facades: ["vessels", "timetable"] }],
        }),
        difference("vessels", { shared: [{ file: "house.rules.yaml", facades: ["sailings", "timetable"] }] }),
      ],
      "GET /api/releases": [],
    });
    show(<ReleasePage />);
    expect(await screen.findByText("breaks")).toBeInTheDocument();
    expect(screen.getByText(/Tide Clock called quoteFare 12 times/)).toBeInTheDocument();
    expect(screen.getByText("+new")).toBeInTheDocument();
    expect(screen.getByText(/changes vessels, timetable too/)).toBeInTheDocument();
    await userEvent.click(screen.getByLabelText("sailings"));
    expect(screen.getByText(/stays as it was for vessels, timetable, until/)).toBeInTheDocument();
    await userEvent.click(screen.getByLabelText("vessels"));
    expect(screen.getByText(/stays as it was for timetable, until/)).toBeInTheDocument();
    expect(screen.queryByText("--- a")).not.toBeInTheDocument();
    expect(screen.getByText("Nothing has been released yet.")).toBeInTheDocument();
  });

  it("releases what is chosen, with what it is for", async () => {
    const service = new Service({
      "GET /api/offers/compare": { offers: [], portal_files: {} },
      "GET /api/compare": [difference("sailings"), difference("vessels", { status: "new" })],
      "GET /api/releases": [],
      "POST /api/releases": released,
    });
    show(<ReleasePage />);
    await userEvent.click(await screen.findByLabelText("vessels"));
    await userEvent.type(screen.getByLabelText("What it is for"), "winter fares");
    await userEvent.click(screen.getByRole("button", { name: "Release vessels" }));
    expect(service.bodies("POST /api/releases")).toEqual([
      { facades: ["vessels"], offers: [], portal: false, note: "winter fares" },
    ]);
    const now = within(await screen.findByRole("status"));
    expect(now.getByText("Release 4 is live.")).toBeInTheDocument();
    expect(now.getByText("http://127.0.0.1:3810/vessels/v1")).toBeInTheDocument();
    expect(now.getByText("porch call GET '/vessels/v1/vessels?states=MOORED'")).toBeInTheDocument();
  });

  it("has nothing chosen beforehand, releases nothing then, and says when there is nothing", async () => {
    const service = new Service({
      "GET /api/offers/compare": { offers: [], portal_files: {} },
      "GET /api/compare": [difference("sailings")],
      "GET /api/releases": [],
    });
    const first = show(<ReleasePage />);
    expect(await screen.findByLabelText("sailings")).not.toBeChecked();
    expect(screen.getByRole("button", { name: "Release" })).toBeDisabled();
    first.dispose();
    service.answers["GET /api/compare"] = [difference("sailings", { status: "same" })];
    show(<ReleasePage />);
    expect(await screen.findByText(/There is nothing to release/)).toBeInTheDocument();
  });

  it("shows why a release was refused", async () => {
    new Service({
      "GET /api/offers/compare": { offers: [], portal_files: {} },
      "GET /api/compare": [difference("sailings")],
      "GET /api/releases": [],
      "POST /api/releases": new Refusal(422, {
        title: "The draft has errors",
        findings: [{ severity: "error", file: "s.yaml", line: 3, column: 1, message: "no such backend", help: "" }],
      }),
    });
    show(<ReleasePage />);
    await userEvent.click(await screen.findByLabelText("sailings"));
    await userEvent.click(screen.getByRole("button", { name: "Release sailings" }));
    const alert = await screen.findByRole("alert");
    expect(alert).toHaveTextContent("The draft has errors");
    expect(alert).toHaveTextContent("s.yaml:3");
  });

  it("asks before callers lose a facade, and names them", async () => {
    const gone = difference("sailings", {
      status: "gone",
      used_by: [{ operation: "quoteFare", consumer: "Tide Clock", calls: 12 }],
    });
    const service = new Service({
      "GET /api/offers/compare": { offers: [], portal_files: {} },
      "GET /api/compare": [gone],
      "GET /api/releases": [],
      "POST /api/releases": released,
    });
    show(<ReleasePage />);
    await userEvent.click(await screen.findByLabelText("sailings (ends)"));
    await userEvent.click(screen.getByRole("button", { name: "Release sailings" }));
    const question = within(await screen.findByRole("alertdialog"));
    expect(question.getByText(/Tide Clock called quoteFare 12 times/)).toBeInTheDocument();
    expect(service.bodies("POST /api/releases")).toEqual([]);
    await userEvent.click(question.getByRole("button", { name: "Leave it as it is" }));
    expect(service.bodies("POST /api/releases")).toEqual([]);
    await userEvent.click(screen.getByRole("button", { name: "Release sailings" }));
    await userEvent.click(
      within(await screen.findByRole("alertdialog")).getByRole("button", { name: "Release sailings" }),
    );
    expect(service.bodies("POST /api/releases")).toHaveLength(1);
  });

  it("serves an older release again, once it is said what that changes", async () => {
    const service = new Service({
      "GET /api/offers/compare": { offers: [], portal_files: {} },
      "GET /api/compare": [],
      "GET /api/releases": [release(3, true), release(2, false)],
      "GET /api/releases/{number}/compare": {
        served: 3,
        differences: [difference("vessels", { status: "gone" })],
        offering: { offers: [], portal_files: {} },
      },
      "POST /api/releases/{number}/rollback": released,
    });
    show(<ReleasePage />);
    const table = within(await screen.findByRole("region", { name: "Releases" }));
    expect(table.getByText("served")).toBeInTheDocument();
    await userEvent.click(table.getByRole("button", { name: "Serve 2 again" }));
    const question = within(await screen.findByRole("alertdialog"));
    expect(await question.findByText(/vessels: its callers get 404/)).toBeInTheDocument();
    await userEvent.click(question.getByRole("button", { name: "Serve 2 again" }));
    expect(service.asked.map((a) => a.address)).toContain("/api/releases/2/rollback");
    expect(service.bodies("POST /api/releases/{number}/rollback")).toEqual([{ served: 3 }]);
  });
});
