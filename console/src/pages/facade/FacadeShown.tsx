import { Link } from "react-router";

import { api, useChange } from "../../api/client";
import type { FacadeView } from "../../api/schema";
import { Button, DraftTag, Findings, Notice, Problem, RowOf, Sheet, Soft, Tag } from "../../parts";
import { Operations } from "./Operations";

export function FacadeShown({ data }: { data: FacadeView }) {
  const pause = useChange((paused: boolean) =>
    api("PUT /api/facades/{facade}/pause", { path: { facade: data.name }, body: { paused } }),
  );
  return (
    <>
      <RowOf>
        <h1>{data.title || data.name}</h1>
        <Soft>version {data.version}</Soft>
        <DraftTag status={data.status} />
        {data.paused && <Tag $tone="warn">paused</Tag>}
        {data.status !== "new" && (
          <Button $kind={data.paused ? undefined : "bad"} onPress={() => pause.mutate(!data.paused)}>
            {data.paused ? "Resume" : "Pause: callers get 503 at once"}
          </Button>
        )}
      </RowOf>
      {pause.error && <Problem error={pause.error} />}
      {data.status !== "same" && (
        <Notice $tone="warn">
          What you see here is the draft; callers are served something else.{" "}
          <Link to="/release">Compare and release</Link>
        </Notice>
      )}
      <p>{data.description}</p>
      <Sheet>
        <h2>Operations</h2>
        <Soft>
          Callers reach them below <code>{data.address}</code>
        </Soft>
        <Operations data={data} />
      </Sheet>
      {data.findings.length > 0 && (
        <Sheet>
          <h2>Findings</h2>
          <Findings findings={data.findings} />
        </Sheet>
      )}
      <Sheet>
        <h2>Documents</h2>
        <RowOf>
          {data.files.map((file) => (
            <Link key={file} to={`/documents?file=${encodeURIComponent(file)}`}>
              {file}
            </Link>
          ))}
        </RowOf>
      </Sheet>
    </>
  );
}
