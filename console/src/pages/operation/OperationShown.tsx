import styled from "styled-components";

import type { OperationView } from "../../api/schema";
import { DraftTag, Place, RowOf, Sheet, Soft } from "../../parts";
import { Calls } from "./Calls";
import { Fields } from "./Fields";
import { TrialRun } from "./TrialRun";

export function OperationShown({ data }: { data: OperationView }) {
  const table = data.table;
  return (
    <>
      <RowOf>
        <h1>{data.id}</h1>
        <code>
          {data.method} {data.path}
        </code>
        <DraftTag status={data.status} />
      </RowOf>
      <p>
        {data.summary}{" "}
        <Soft>
          {data.backend
            ? data.calls.length > 0
              ? `— makes ${String(data.calls.length)} calls of ${data.backend}`
              : `— calls ${data.call} of ${data.backend}`
            : `— calls nothing yet, and answers with ${data.call}`}
        </Soft>
      </p>
      <Beside>
        <div style={{ display: "grid", gap: 16, minWidth: 0 }}>
          {(data.calls.length > 0 || data.refusals.length > 0) && (
            <Sheet>
              <Calls calls={data.calls} refusals={data.refusals} />
            </Sheet>
          )}
          <Sheet>
            <h2>Request</h2>
            <Fields rows={table.request} label="Request fields" left="Caller sends" />
            <h2>Reply</h2>
            <Fields rows={table.reply} label="Reply fields" left="Caller gets" />
          </Sheet>
          <TrialRun facade={data.facade} id={data.id} table={table} calls={named(data)} />
        </div>
        <Sheet>
          <h2>Rules that act</h2>
          <RuleList>
            {data.rules.map((r, i) => (
              <li key={i}>
                {r.rule}
                <small>
                  {r.stage} · {r.reach}
                  {r.file && (
                    <>
                      {" · "}
                      <Place file={r.file} line={r.line} short />
                    </>
                  )}
                </small>
              </li>
            ))}
          </RuleList>
        </Sheet>
      </Beside>
    </>
  );
}

/** The names by which the answers of an operation's calls are known. */
function named(data: OperationView): string[] {
  if (data.calls.length > 0) return data.calls.map((c) => c.name);
  return data.backend ? ["answer"] : [];
}

const Beside = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 300px;
  gap: var(--space-4);
  align-items: start;
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const RuleList = styled.ol`
  margin: 0;
  padding: 0;
  list-style: none;
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: var(--space-2);
  overflow-wrap: anywhere;
  li {
    border-left: 2px solid var(--line);
    padding-left: var(--space-2);
  }
  small {
    color: var(--ink-soft);
    display: block;
  }
`;
