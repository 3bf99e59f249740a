import { useState } from "react";
import styled from "styled-components";

import { api, useApi, useChange } from "../api/client";
import type { Difference } from "../api/schema";
import {
  Button,
  Code,
  DraftTag,
  Field,
  Fold,
  Loaded,
  Notice,
  Page,
  Problem,
  RowOf,
  Sheet,
  Soft,
  Table,
  Tag,
} from "../parts";
import { time } from "../parts/format";
import { useTitle } from "../parts/title";

const Line = styled.div`
  &[data-kind="+"] {
    color: var(--good);
  }
  &[data-kind="-"] {
    color: var(--bad);
  }
`;

function Diff({ text }: { text: string }) {
  const lines = text.split("\n").filter((l) => !l.startsWith("---") && !l.startsWith("+++"));
  return (
    <Code as="div">
      {lines.map((line, i) => (
        <Line key={i} data-kind={line.charAt(0)}>
          {line || " "}
        </Line>
      ))}
    </Code>
  );
}

function OneDifference({ d }: { d: Difference }) {
  const changes = d.changes;
  return (
    <Sheet>
      <RowOf>
        <h2>{d.facade}</h2>
        <DraftTag status={d.status} />
      </RowOf>
      {changes.length > 0 && (
        <div>
          {changes.map((c, i) => (
            <div key={i}>
              <Tag $tone={c.harm === "breaks" ? "bad" : c.harm === "adds" ? "good" : undefined}>{c.harm}</Tag>{" "}
              {c.operation && <code>{c.operation}</code>} {c.what}
            </div>
          ))}
        </div>
      )}
      {d.status === "changed" && changes.length === 0 && (
        <Soft>Callers see the same contract; what happens behind it changes.</Soft>
      )}
      {(d.used_by ?? []).map((u, i) => (
        <div key={i}>
          {u.consumer} called {u.operation} {u.calls} times in the last seven days
        </div>
      ))}
      {Object.entries(d.files).map(([file, text]) => (
        <Fold key={file} title={<code>{file}</code>} open>
          <Diff text={text} />
        </Fold>
      ))}
    </Sheet>
  );
}

function ReleaseForm({ list }: { list: Difference[] }) {
  const [chosen, setChosen] = useState<string[]>(list.map((d) => d.facade));
  const [note, setNote] = useState("");
  const release = useChange(() => api("POST /api/releases", { body: { facades: chosen, note } }));
  return (
    <Sheet>
      <h2>Release</h2>
      <RowOf>
        {list.map((d) => (
          <label key={d.facade}>
            <input
              type="checkbox"
              checked={chosen.includes(d.facade)}
              onChange={(e) =>
                setChosen(e.target.checked ? [...chosen, d.facade] : chosen.filter((f) => f !== d.facade))
              }
            />{" "}
            {d.facade}
          </label>
        ))}
      </RowOf>
      <Field label="What it is for" value={note} onChange={setNote} />
      <RowOf>
        <Button
          $kind="main"
          isDisabled={chosen.length === 0 || release.isPending}
          onPress={() => release.mutate(undefined)}
        >
          Release {chosen.join(", ")}
        </Button>
        <Soft>Callers are served it at once; everything else is carried over unchanged.</Soft>
      </RowOf>
      {release.error && <Problem error={release.error} />}
    </Sheet>
  );
}

function Releases() {
  const releases = useApi("GET /api/releases");
  const back = useChange((number: number) => api("POST /api/releases/{number}/rollback", { path: { number } }));
  return (
    <Sheet>
      <h2>Releases</h2>
      {back.error && <Problem error={back.error} />}
      <Loaded of={releases}>
        {(list) => (
          <Table
            label="Releases"
            head={["#Number", "Made", "By", "Taken from the draft", "Holds", "Note", ""]}
            empty="Nothing has been released yet."
            rows={list.map((r) => ({
              key: String(r.number),
              cells: [
                r.number,
                time(r.made_at),
                r.made_by,
                r.taken.join(", "),
                r.facades.join(", "),
                r.note,
                r.served ? (
                  <Tag $tone="good">served</Tag>
                ) : (
                  <Button onPress={() => back.mutate(r.number)}>Serve {r.number} again</Button>
                ),
              ],
            }))}
          />
        )}
      </Loaded>
    </Sheet>
  );
}

export function ReleasePage() {
  useTitle("Compare and release");
  const compare = useApi("GET /api/compare");
  return (
    <Page>
      <h1>Compare and release</h1>
      <Loaded of={compare}>
        {(all) => {
          const open = all.filter((d) => d.status !== "same");
          return (
            <>
              {open.length === 0 && (
                <Notice $tone="accent">Callers are served what the draft says. There is nothing to release.</Notice>
              )}
              {open.map((d) => (
                <OneDifference key={d.facade} d={d} />
              ))}
              {open.length > 0 && <ReleaseForm key={open.map((d) => d.facade).join()} list={open} />}
            </>
          );
        }}
      </Loaded>
      <Releases />
    </Page>
  );
}
