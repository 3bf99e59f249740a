import { useState } from "react";
import { Link, useParams } from "react-router";
import styled from "styled-components";

import { api, useApi, useChange } from "../api/client";
import type { OperationView, Row, Table as OperationTable } from "../api/schema";
import {
  Area,
  Button,
  Code,
  DraftTag,
  Field,
  Loaded,
  Notice,
  Page,
  Problem,
  RowOf,
  Sheet,
  Soft,
  StatusTag,
  Table,
} from "../parts";
import { pretty, took } from "../parts/format";
import { Stages } from "../parts/Stages";
import { useTitle } from "../parts/title";

const Beside = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 300px;
  gap: var(--space-4);
  align-items: start;
`;

const RuleList = styled.ol`
  margin: 0;
  padding: 0;
  list-style: none;
  display: grid;
  gap: var(--space-2);
  li {
    border-left: 2px solid var(--line);
    padding-left: var(--space-2);
  }
  small {
    color: var(--ink-soft);
    display: block;
  }
`;

const Inputs = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(180px, 1fr));
  gap: var(--space-3);
`;

function Fields({ rows, label, left }: { rows: Row[]; label: string; left: string }) {
  return (
    <Table
      label={label}
      head={[left, "Type", "What happens", "Backend", "Type"]}
      empty="No fields."
      rows={rows.map((r, i) => ({
        key: String(i),
        cells: [
          <span key="c">
            {r.caller}
            {r.caller && !r.required && <Soft> (optional)</Soft>}
          </span>,
          <Soft key="t">{r.caller_type}</Soft>,
          r.what === "as it is" ? <Soft key="w">as it is</Soft> : <code key="w">{r.what}</code>,
          r.backend,
          <Soft key="b">{r.backend_type}</Soft>,
        ],
      }))}
    />
  );
}

const shown = (value: unknown) =>
  typeof value === "string" ? value : value === undefined ? "" : JSON.stringify(value);

function TrialRun({ facade, id, table }: { facade: string; id: string; table: OperationTable }) {
  const [path, setPath] = useState(() =>
    Object.fromEntries(Object.entries(table.sample.path).map(([k, v]) => [k, shown(v)])),
  );
  const [query, setQuery] = useState(() =>
    Object.fromEntries(Object.entries(table.sample.query).map(([k, v]) => [k, shown(v)])),
  );
  const [body, setBody] = useState(table.sample.body === undefined ? "" : JSON.stringify(table.sample.body, null, 2));
  const [unreadable, setUnreadable] = useState("");
  const trial = useChange((parsed: unknown) =>
    api("POST /api/trials", {
      body: {
        facade,
        operation: id,
        path,
        query: Object.fromEntries(Object.entries(query).filter(([, v]) => v !== "")),
        body: parsed,
      },
    }),
  );
  const run = () => {
    try {
      const parsed: unknown = body.trim() ? JSON.parse(body) : null;
      setUnreadable("");
      trial.mutate(parsed);
    } catch (e) {
      setUnreadable(`The body is no JSON: ${e instanceof Error ? e.message : ""}`);
    }
  };
  return (
    <Sheet>
      <h2>Trial run</h2>
      <Soft>One exchange against the draft. Nothing is published, no limit counts, no key is needed.</Soft>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          run();
        }}
      >
        <Inputs>
          {Object.entries(path).map(([name, value]) => (
            <Field key={name} label={`path ${name}`} value={value} onChange={(v) => setPath({ ...path, [name]: v })} />
          ))}
          {Object.entries(query).map(([name, value]) => (
            <Field
              key={name}
              label={`query ${name}`}
              value={value}
              onChange={(v) => setQuery({ ...query, [name]: v })}
            />
          ))}
        </Inputs>
        {table.sample.body !== undefined && (
          <Area aria-label="Body" rows={8} value={body} onChange={(e) => setBody(e.target.value)} />
        )}
        <RowOf style={{ marginTop: 12 }}>
          <Button type="submit" $kind="main" isDisabled={trial.isPending}>
            Run
          </Button>
        </RowOf>
      </form>
      {unreadable && (
        <Notice $tone="bad" role="alert">
          {unreadable}
        </Notice>
      )}
      {trial.error && <Problem error={trial.error} />}
      {trial.data && (
        <div role="region" aria-label="Result of the trial run">
          <RowOf>
            <StatusTag status={trial.data.status} />
            <Soft>in {took(trial.data.trace.us)}</Soft>
            {!trial.data.released && <Soft>— callers are not served this draft yet</Soft>}
          </RowOf>
          <Code data-testid="trial-body">{pretty(trial.data.body)}</Code>
          <Stages trace={trial.data.trace} />
        </div>
      )}
    </Sheet>
  );
}

function Content({ data }: { data: OperationView }) {
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
          — calls {data.call} of {data.backend}
        </Soft>
      </p>
      <Beside>
        <div style={{ display: "grid", gap: 16, minWidth: 0 }}>
          <Sheet>
            <h2>Request</h2>
            <Fields rows={table.request} label="Request fields" left="Caller sends" />
            <h2>Reply</h2>
            <Fields rows={table.reply} label="Reply fields" left="Caller gets" />
          </Sheet>
          <TrialRun facade={data.facade} id={data.id} table={table} />
        </div>
        <Sheet>
          <h2>Rules that act</h2>
          <RuleList>
            {data.rules.map((r, i) => (
              <li key={i}>
                {r.rule}
                <small>
                  {r.stage} · {r.reach}
                  {r.file && ` · ${r.file.split("/").pop()}:${r.line}`}
                </small>
              </li>
            ))}
          </RuleList>
        </Sheet>
      </Beside>
    </>
  );
}

export function OperationPage() {
  const { facade = "", operation = "" } = useParams();
  useTitle(operation);
  const view = useApi("GET /api/facades/{facade}/operations/{operation}", { path: { facade, operation } });
  return (
    <Page>
      <Soft>
        <Link to="/facades">Facades</Link> / <Link to={`/facades/${facade}`}>{facade}</Link> / {operation}
      </Soft>
      <Loaded of={view}>{(data) => <Content key={`${data.facade}/${data.id}`} data={data} />}</Loaded>
    </Page>
  );
}
