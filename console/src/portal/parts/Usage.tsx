import { useState } from "react";
import styled from "styled-components";

import { Button, Loaded, Pick, RowOf, Sheet, Soft, StatusTag, Table, When } from "../../parts";
import { time } from "../../parts/format";
import { useApi } from "../client";
import type { OwnUsage, Refusal } from "../schema";

const PAST: Record<string, number> = {
  "the last hour": 1,
  "the last day": 24,
  "the last week": 168,
  "the last 90 days": 2160,
};

/** A table as CSV (RFC 4180). What a spreadsheet would take for a formula is kept from being one. */
function csv(head: string[], rows: (string | number)[][]): string {
  const cell = (value: string | number) => {
    const text = String(value);
    const safe = typeof value === "string" && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
    return /[",\r\n]/.test(safe) ? `"${safe.replace(/"/g, '""')}"` : safe;
  };
  return [head, ...rows].map((row) => row.map(cell).join(",")).join("\r\n") + "\r\n";
}

function keep(name: string, text: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

/** What an application called, and what was refused. */
export function Usage({ application }: { application: string }) {
  const [past, setPast] = useState("the last day");
  const usage = useApi("GET /api/usage", { query: { application, hours: PAST[past] } }, 10_000);
  const refusals = useApi("GET /api/refusals", { query: { application } }, 10_000);
  return (
    <Sheet aria-label="What it called">
      <h2>What it called</h2>
      <RowOf>
        <Pick label="When" value={past} onChange={setPast} choices={Object.keys(PAST)} />
      </RowOf>
      <Loaded of={usage}>{(u) => <Calls of={u} application={application} />}</Loaded>
      <h3>What was refused lately</h3>
      <Loaded of={refusals}>{(list) => <Refusals of={list} />}</Loaded>
    </Sheet>
  );
}

function Calls({ of, application }: { of: OwnUsage; application: string }) {
  const most = Math.max(1, ...of.parts.map((p) => p.good + p.refused + p.failed));
  const sum = (of_: "good" | "refused" | "failed") => of.parts.reduce((all, p) => all + p[of_], 0);
  const head = ["facade", "operation", "status", "calls", "bytes in", "bytes out"];
  const rows = of.calls.map((c) => [c.facade, c.operation, c.status, c.calls, c.bytes_in, c.bytes_out]);
  return (
    <>
      <Chart
        viewBox="0 0 600 90"
        role="img"
        aria-label={`${sum("good")} good calls, ${sum("refused")} refused, ${sum("failed")} failed; at most ${most} at a time`}
      >
        {of.parts.map((p, i) => {
          const height = (n: number) => (n / most) * 80;
          const [good, refused, failed] = [height(p.good), height(p.refused), height(p.failed)];
          return (
            <g key={p.at}>
              <title>
                {time(p.at)}: {p.good} good, {p.refused} refused, {p.failed} failed
              </title>
              <rect className="good" x={i * 10} y={85 - good} width={8} height={good} />
              <rect className="refused" x={i * 10} y={85 - good - refused} width={8} height={refused} />
              <rect className="failed" x={i * 10} y={85 - good - refused - failed} width={8} height={failed} />
            </g>
          );
        })}
        <line x1={0} x2={600} y1={85.5} y2={85.5} />
      </Chart>
      <RowOf>
        <Soft>
          {sum("good")} good, {sum("refused")} refused, {sum("failed")} failed
        </Soft>
        <Button isDisabled={rows.length === 0} onPress={() => keep(`${application}.csv`, csv(head, rows))}>
          Keep as CSV
        </Button>
      </RowOf>
      <Table
        label="Calls"
        head={["Operation", "API", "Status", "#Calls", "#Bytes out"]}
        empty="It called nothing in this time."
        rows={of.calls.map((c) => ({
          key: `${c.facade} ${c.operation} ${c.status}`,
          worth: [c.operation, c.facade, c.status, c.calls, c.bytes_out],
          cells: [c.operation, c.facade, <StatusTag key="s" status={c.status} />, c.calls, c.bytes_out],
        }))}
      />
    </>
  );
}

function Refusals({ of }: { of: Refusal[] }) {
  return (
    <Table
      label="Refusals"
      head={["When", "Operation", "Status", "Why"]}
      empty="Nothing was, as far as is kept."
      rows={of.map((r, i) => ({
        key: `${r.id} ${i}`,
        worth: [r.at, r.operation, r.status, r.why],
        cells: [
          <When key="w" at={r.at} />,
          r.operation ? `${r.operation} of ${r.facade}` : r.method,
          <StatusTag key="s" status={r.status} />,
          r.why,
        ],
      }))}
    />
  );
}

const Chart = styled.svg`
  width: 100%;
  max-width: 720px;
  height: auto;
  .good {
    fill: var(--accent);
  }
  .refused {
    fill: var(--warn);
  }
  .failed {
    fill: var(--bad);
  }
  line {
    stroke: var(--line);
  }
`;
