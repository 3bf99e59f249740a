import { Link } from "react-router";

import type { Explained } from "../../api/schema";
import { RowOf, Sheet, Soft, StatusTag } from "../../parts";
import { time, took } from "../../parts/format";
import { Stages } from "../../parts/Stages";

export function TraceShown({ data }: { data: Explained }) {
  const trace = data.trace;
  return (
    <>
      <RowOf>
        <h1>
          {trace.method} {trace.target}
        </h1>
        <StatusTag status={trace.status} />
        <Soft>
          {time(trace.at)}, {took(trace.us)}
        </Soft>
      </RowOf>
      <Sheet>
        <h2>Why</h2>
        {data.explanation.map((line, i) => (
          <p key={i}>{line}</p>
        ))}
      </Sheet>
      <Sheet>
        <h2>Stages</h2>
        {trace.stages.length === 0 ? (
          <Soft>Only the outcome was kept: too many exchanges came at once.</Soft>
        ) : (
          <>
            <Stages trace={trace} />
            {trace.stages.some((s) => s.name === "call") && (
              <Link to={`/facades/${trace.facade}/${trace.operation}?answers-of=${trace.id}`}>
                Try {trace.operation} with the answers of this exchange
              </Link>
            )}
          </>
        )}
      </Sheet>
    </>
  );
}
