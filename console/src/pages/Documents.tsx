import { useState } from "react";
import { useSearchParams } from "react-router";
import styled from "styled-components";

import { api, useApi, useChange } from "../api/client";
import type { DraftFile } from "../api/schema";
import { Area, Button, Findings, Loaded, Notice, Page, Problem, RowOf, Sheet, Soft } from "../parts";
import { time } from "../parts/format";
import { useTitle } from "../parts/title";

const Beside = styled.div`
  display: grid;
  grid-template-columns: 310px minmax(0, 1fr);
  gap: var(--space-4);
  align-items: start;
`;

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: var(--space-2);
  overflow-wrap: anywhere;
  font-size: var(--size-s);
`;

function Editor({ file }: { file: DraftFile }) {
  const [text, setText] = useState(file.text);
  const check = useChange(() => api("POST /api/check", { body: { files: { [file.path]: text } } }));
  const save = useChange(() =>
    api("PUT /api/draft", { body: { files: { [file.path]: text }, revisions: { [file.path]: file.revision } } }),
  );
  const findings = save.data?.findings ?? check.data?.findings;
  return (
    <Sheet>
      <RowOf>
        <h2>{file.path}</h2>
        <Soft>
          changed by {file.changed_by} at {time(file.changed_at)}
        </Soft>
      </RowOf>
      <Area
        aria-label={`Text of ${file.path}`}
        rows={26}
        spellCheck={false}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <RowOf>
        <Button onPress={() => check.mutate(undefined)}>Check</Button>
        <Button $kind="main" isDisabled={text === file.text || save.isPending} onPress={() => save.mutate(undefined)}>
          Save to the draft
        </Button>
        <Soft>Callers see nothing of it before a release.</Soft>
      </RowOf>
      {save.error && <Problem error={save.error} />}
      {check.error && <Problem error={check.error} />}
      {save.data && save.data.unreleased.length > 0 && (
        <Notice $tone="warn">Saved, not released: {save.data.unreleased.join(", ")}</Notice>
      )}
      {findings &&
        (findings.length === 0 ? <Notice $tone="accent">Nothing is wrong.</Notice> : <Findings findings={findings} />)}
    </Sheet>
  );
}

export function Documents() {
  useTitle("Documents");
  const [search, setSearch] = useSearchParams();
  const draft = useApi("GET /api/draft");
  const chosen = search.get("file") ?? "";
  return (
    <Page>
      <h1>Documents of the draft</h1>
      <Loaded of={draft}>
        {(files) => {
          const file =
            files.find((f) => f.path === chosen) ?? files.find((f) => f.path.endsWith(".facade.yaml")) ?? files[0];
          if (!file) return <Soft>The draft is empty. Publish a backend, or use `porch push`.</Soft>;
          return (
            <Beside>
              <Sheet>
                <List aria-label="Files">
                  {files.map((f) => (
                    <li key={f.path}>
                      <a
                        href={`?file=${encodeURIComponent(f.path)}`}
                        aria-current={f.path === file.path ? "page" : undefined}
                        onClick={(e) => {
                          e.preventDefault();
                          setSearch({ file: f.path });
                        }}
                        style={{ fontWeight: f.path === file.path ? 600 : 400 }}
                      >
                        {f.path}
                      </a>
                    </li>
                  ))}
                </List>
              </Sheet>
              <Editor key={file.path} file={file} />
            </Beside>
          );
        }}
      </Loaded>
    </Page>
  );
}
