import { Link, useParams } from "react-router";

import { useApi } from "../api/client";
import type { Explained } from "../api/schema";
import { Loaded, Page, RowOf, Sheet, Soft, StatusTag } from "../parts";
import { time, took } from "../parts/format";
import { Stages } from "../parts/Stages";
import { useTitle } from "../parts/title";

function Content({ data }: { data: Explained }) {
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
          <Stages trace={trace} />
        )}
      </Sheet>
    </>
  );
}

export function TracePage() {
  const { id = "" } = useParams();
  useTitle(`Exchange ${id.slice(0, 12)}`);
  const trace = useApi("GET /api/traces/{id}", { path: { id } });
  return (
    <Page>
      <Soft>
        <Link to="/traces">Traces</Link> / {id}
      </Soft>
      <Loaded of={trace}>{(data) => <Content data={data} />}</Loaded>
    </Page>
  );
}
