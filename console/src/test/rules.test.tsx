import { screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";

import type { RulesView } from "../api/schema";
import { Rules } from "../pages/rules/Rules";
import { Service, show } from "./stage";

const rules = (name: string, more: Partial<RulesView> = {}): RulesView => ({
  name,
  title: "",
  reach: "used",
  backends: [],
  parameters: [],
  facades: [],
  file: `${name}.rules.yaml`,
  ...more,
});

describe("shared rules", () => {
  it("say what they reach, and what may differ", async () => {
    new Service({
      "GET /api/rules": [
        rules("house", { reach: "everywhere", title: "For all", facades: ["sailings", "vessels"] }),
        rules("behind", { reach: "backends", backends: ["tides", "fleet"] }),
        rules("fair-share", {
          parameters: [
            { name: "requests", type: "integer", default: 600, description: "In ten seconds." },
            { name: "season", type: "string", description: "" },
          ],
        }),
      ],
    });
    show(<Rules />);
    expect(await screen.findByText("everywhere")).toBeInTheDocument();
    expect(screen.getByText("calls of tides, fleet")).toBeInTheDocument();
    expect(screen.getByText("where it is used")).toBeInTheDocument();
    expect(screen.getByText("integer, 600")).toBeInTheDocument();
    expect(screen.getByText("string, must be given")).toBeInTheDocument();
    expect(screen.getByRole("link", { name: "vessels" })).toHaveAttribute("href", "/facades/vessels");
    expect(screen.getByRole("link", { name: "house.rules.yaml:1" })).toBeInTheDocument();
    expect(screen.getAllByText("nothing")).toHaveLength(2);
  });

  it("do not name facades without end", async () => {
    const facades = Array.from({ length: 40 }, (_, i) => `facade-${String(i)}`);
    new Service({ "GET /api/rules": [rules("house", { reach: "everywhere", facades })] });
    show(<Rules />);
    expect(await screen.findByText("and 28 more")).toBeInTheDocument();
    expect(screen.getAllByRole("link", { name: /^facade-/ })).toHaveLength(12);
  });

  it("are none in the beginning", async () => {
    new Service({ "GET /api/rules": [] });
    show(<Rules />);
    expect(await screen.findByText(/There are no shared rules yet/)).toBeInTheDocument();
  });
});
