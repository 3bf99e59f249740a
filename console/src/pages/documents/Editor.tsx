import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { DraftFile } from "../../api/schema";
import { Area, Button, Findings, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { time } from "../../parts/format";

export function Editor({ file }: { file: DraftFile }) {
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
