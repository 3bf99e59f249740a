import { Link, useParams } from "react-router";

import { api, useApi, useChange } from "../api/client";
import type { FacadeView } from "../api/schema";
import { Button, DraftTag, Findings, Loaded, Notice, Page, Problem, RowOf, Sheet, Soft, Table, Tag } from "../parts";
import { useTitle } from "../parts/title";

function Content({ data }: { data: FacadeView }) {
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
        <Table
          label="Operations"
          head={["Operation", "Method", "Path", "What it does", "Backend", "#Calls (1 h)", "#Refused", "#Failed"]}
          empty="The contract has no operation."
          rows={data.operations.map((o) => ({
            key: o.id,
            cells: [
              o.backend ? (
                <Link key="l" to={`/facades/${data.name}/${o.id}`}>
                  {o.id}
                </Link>
              ) : (
                o.id
              ),
              o.method,
              <code key="p">{o.path}</code>,
              o.summary,
              o.backend || <Tag $tone="warn">not wired</Tag>,
              o.calls,
              o.refused,
              o.failed,
            ],
          }))}
        />
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

export function FacadePage() {
  const { facade = "" } = useParams();
  useTitle(facade);
  const view = useApi("GET /api/facades/{facade}", { path: { facade } }, 5000);
  return (
    <Page>
      <Soft>
        <Link to="/facades">Facades</Link> / {facade}
      </Soft>
      <Loaded of={view}>{(data) => <Content key={data.name} data={data} />}</Loaded>
    </Page>
  );
}
