import styled from "styled-components";

import type { OperationView } from "../../api/schema";
import { DraftTag, RowOf, Sheet, Soft } from "../../parts";
import { ActingRules } from "./ActingRules";
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
              ? `— makes ${data.calls.length === 1 ? "a call" : `${String(data.calls.length)} calls`} of ${data.backend}`
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
          <ActingRules rules={data.rules} />
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
