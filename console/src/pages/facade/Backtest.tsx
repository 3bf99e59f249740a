import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { LimitTested } from "../../api/schema";
import { Button, Findings, Problem, RowOf, Sheet, Soft, Table } from "../../parts";
import { time } from "../../parts/format";

const DAYS = [1, 7, 31];

/** The draft's limits and quotas, against what was called lately. */
export function Backtest({ facade }: { facade: string }) {
  const [days, setDays] = useState(7);
  const run = useChange(() => api("POST /api/backtests", { body: { facade, days } }));
  const told = run.data;
  return (
    <Sheet aria-label="Limits">
      <h2>Limits against what was called</h2>
      <Soft>
        The draft’s limits and quotas, tried with the calls of the last days: who would have been refused, when, and how
        often. Usage is known by the minute; calls of a minute are spread over it evenly.
      </Soft>
      <RowOf>
        <label>
          Look back{" "}
          <select value={days} onChange={(e) => setDays(Number(e.target.value))}>
            {DAYS.map((n) => (
              <option key={n} value={n}>
                {n === 1 ? "a day" : `${n} days`}
              </option>
            ))}
          </select>
        </label>
        <Button onPress={() => run.mutate(undefined)} isDisabled={run.isPending}>
          Try them
        </Button>
      </RowOf>
      {run.error && <Problem error={run.error} />}
      {told && (
        <div role="status">
          <p>
            {told.calls} calls since {time(told.since_at)}.{" "}
            {told.limits.length === 0 && "The draft has no limits and no quotas there."}
          </p>
          {told.limits.map((limit) => (
            <Tested key={`${limit.rule} ${limit.reach}`} limit={limit} />
          ))}
          {told.findings.length > 0 && <Findings findings={told.findings} />}
        </div>
      )}
    </Sheet>
  );
}

function Tested({ limit }: { limit: LimitTested }) {
  const refused = limit.whose.filter((s) => s.refused > 0);
  const what = limit.not_tried
    ? `not tried: ${limit.not_tried}`
    : limit.refused === 0
      ? `none of ${limit.calls} calls would have been refused`
      : `${limit.refused} of ${limit.calls} calls would have been refused`;
  return (
    <section style={{ marginTop: 16 }}>
      <h3>
        {limit.rule} <Soft>({limit.reach})</Soft>
      </h3>
      <p>{what}</p>
      {refused.length > 0 && (
        <Table
          label={`Refused by ${limit.rule}`}
          head={["Whose", "#Calls", "#Refused", "#In minutes", "First", "Last", "Worst minute"]}
          empty=""
          rows={refused.map((s) => ({
            key: s.name,
            worth: [s.name, s.calls, s.refused, s.minutes, s.first_at ?? 0, s.last_at ?? 0, s.worst],
            cells: [
              s.name,
              s.calls,
              s.refused,
              s.minutes,
              time(s.first_at ?? 0),
              time(s.last_at ?? 0),
              `${time(s.worst_at ?? 0)} (${s.worst})`,
            ],
          }))}
        />
      )}
    </section>
  );
}
