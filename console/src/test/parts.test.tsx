import type { Trace } from "../api/schema";
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";

import { ApiError } from "../api/client";
import { Loaded, Table } from "../parts";
import { Stages } from "../parts/Stages";
import { show } from "./stage";

const trace: Trace = {
  id: "a",
  at: 0,
  release: 1,
  facade: "sailings",
  operation: "quoteFare",
  consumer: 1,
  consumer_name: "Tide Clock",
  key: "abc",
  address: "127.0.0.1",
  method: "GET",
  target: "/x",
  status: 429,
  us: 100,
  refusal: {
    stage: "admit",
    why: "five calls were made",
    rule: "limit 5",
    reach: "facade sailings",
    file: "s.yaml",
    line: 9,
  },
  stages: [
    { name: "match", from_us: 0, us: 1, notes: ["found it"], before: null, after: null },
    { name: "admit", from_us: 1, us: 1, notes: ["refused here"], before: null, after: null },
  ],
};

describe("parts", () => {
  it("shows the rule that refused, opens its stage, and opens others by keyboard", async () => {
    show(<Stages trace={trace} />);
    expect(screen.getByText(/s\.yaml:9/)).toBeInTheDocument();
    expect(screen.getByText("refused here")).toBeVisible();
    const other = screen.getByRole("button", { name: /match/ });
    expect(other).toHaveAttribute("aria-expanded", "false");
    other.focus();
    await userEvent.keyboard("{Enter}");
    expect(other).toHaveAttribute("aria-expanded", "true");
  });

  it("sorts by what a column is worth, and searches where there are many", async () => {
    const rows = Array.from({ length: 12 }, (_, i) => ({
      key: String(i),
      worth: [`row ${i}`, (i * 7) % 12],
      cells: [<b key="b">row {i}</b>, (i * 7) % 12],
    }));
    render(<Table label="T" head={["Name", "#Calls"]} empty="" rows={rows} />);
    const first = () =>
      screen
        .getAllByRole("cell")
        .slice(0, 2)
        .map((c) => c.textContent);
    expect(first()).toEqual(["row 0", "0"]);
    await userEvent.click(screen.getByRole("button", { name: "Calls" }));
    expect(first()[1]).toBe("11");
    expect(screen.getByRole("columnheader", { name: /Calls/ })).toHaveAttribute("aria-sort", "descending");
    await userEvent.click(screen.getByRole("button", { name: /Calls/ }));
    expect(first()[1]).toBe("0");
    await userEvent.type(screen.getByLabelText("Search among 12"), "row 11");
    // That one, and the one whose calls are as many.
    expect(screen.getAllByRole("row")).toHaveLength(3);
    await userEvent.type(screen.getByLabelText("Search among 12"), "zzz");
    expect(screen.getByText("Nothing fits “row 11zzz”.")).toBeInTheDocument();
  });

  it("has a state for loading, failing, empty and full", () => {
    const table = (rows: string[]) => (
      <Table label="T" head={["A"]} empty="none yet" rows={rows.map((r) => ({ key: r, cells: [r] }))} />
    );
    const { rerender } = render(<Loaded of={{ data: undefined, error: null, isPending: true }}>{() => null}</Loaded>);
    expect(screen.getByRole("status")).toHaveTextContent("Loading");
    rerender(
      <Loaded of={{ data: undefined, error: new ApiError(503, "No database", "Wait.", []), isPending: false }}>
        {() => null}
      </Loaded>,
    );
    expect(screen.getByRole("alert")).toHaveTextContent("No database Wait.");
    rerender(<Loaded of={{ data: [] as string[], error: null, isPending: false }}>{table}</Loaded>);
    expect(screen.getByText("none yet")).toBeInTheDocument();
    rerender(<Loaded of={{ data: ["x"], error: null, isPending: false }}>{table}</Loaded>);
    expect(screen.getByRole("cell")).toHaveTextContent("x");
  });
});
