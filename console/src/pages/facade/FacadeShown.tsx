import { Link } from "react-router";

import { api, useChange } from "../../api/client";
import type { FacadeView } from "../../api/schema";
import { Ask, Button, Copy, DraftTag, Findings, Notice, Problem, RowOf, Sheet, Soft, Tag } from "../../parts";
import { Backtest } from "./Backtest";
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
        {data.status !== "new" && <PauseButton data={data} onPress={(paused) => pause.mutate(paused)} />}
      </RowOf>
      {pause.error && <Problem error={pause.error} />}
      {data.status === "new" && (
        <Notice $tone="warn">
          It is not released: callers get 404. <Link to="/release">Release it</Link> when a trial run shows what you
          want.
        </Notice>
      )}
      {data.status !== "same" && data.status !== "new" && (
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
        <div>
          <Copy text={data.address} what="the address" />
        </div>
        <Operations data={data} />
      </Sheet>
      {data.findings.length > 0 && (
        <Sheet>
          <h2>Findings</h2>
          <Findings findings={data.findings} />
        </Sheet>
      )}
      <Backtest facade={data.name} />
      <Sheet>
        <h2>Documents</h2>
        <RowOf>
          {data.files.map((file) => (
            <Link key={file} to={`/documents?file=${encodeURIComponent(file)}`}>
              {file}
            </Link>
          ))}
        </RowOf>
        <RowOf>
          <Link to={`/publish?facade=${encodeURIComponent(data.name)}`}>
            Bring it up to a definition that changed, or to a contract edited elsewhere
          </Link>
        </RowOf>
      </Sheet>
    </>
  );
}

function PauseButton({ data, onPress }: { data: FacadeView; onPress: (paused: boolean) => void }) {
  if (data.paused) return <Button onPress={() => onPress(false)}>Resume</Button>;
  const calls = data.operations.reduce((sum, o) => sum + o.calls, 0);
  return (
    <Ask label="Pause" title={`Pause ${data.name}?`} onYes={() => onPress(true)}>
      Every caller gets 503 at once, until you resume it. It had {calls} calls in the last hour.
    </Ask>
  );
}
