import type { Trace } from "../api/schema";
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";

import { ApiError } from "../api/client";
import { Loaded, Table } from "../parts";
import { Stages } from "../parts/Stages";

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
    render(<Stages trace={trace} />);
    expect(screen.getByText(/s\.yaml:9/)).toBeInTheDocument();
    expect(screen.getByText("refused here")).toBeVisible();
    const other = screen.getByRole("button", { name: /match/ });
    expect(other).toHaveAttribute("aria-expanded", "false");
    other.focus();
    await userEvent.keyboard("{Enter}");
    expect(other).toHaveAttribute("aria-expanded", "true");
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
