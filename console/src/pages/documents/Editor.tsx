import { useEffect, useRef, useState } from "react";

import { api, useChange } from "../../api/client";
import type { DraftFile } from "../../api/schema";
import { Area, Button, Findings, Notice, Problem, RowOf, Sheet, Soft, When } from "../../parts";

export function Editor({ file, line }: { file: DraftFile; line: number }) {
  const area = useRef<HTMLTextAreaElement>(null);
  useEffect(() => showLine(area.current, line), [line]);
  // What the text began from. Somebody else's newer text is not what was changed here, and so its revision is not either.
  const [base, setBase] = useState(file);
  const [text, setText] = useState(file.text);
  const take = (newer: DraftFile) => {
    setBase(newer);
    setText(newer.text);
  };
  const newer = file.revision !== base.revision;
  const untouched = text === base.text || text === file.text;
  if (newer && untouched) take(file);
  const check = useChange(() => api("POST /api/check", { body: { files: { [file.path]: text } } }));
  const save = useChange(() =>
    api("PUT /api/draft", { body: { files: { [file.path]: text }, revisions: { [file.path]: base.revision } } }),
  );
  const findings = save.data?.findings ?? check.data?.findings;
  return (
    <Sheet>
      <RowOf>
        <h2>{file.path}</h2>
        <Soft>
          changed by {file.changed_by} <When at={file.changed_at} />
          {line > 0 && `, line ${line} is marked`}
        </Soft>
      </RowOf>
      <Area
        ref={area}
        aria-label={`Text of ${file.path}`}
        rows={26}
        spellCheck={false}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <RowOf>
        <Button onPress={() => check.mutate(undefined)}>Check</Button>
        <Button $kind="main" isDisabled={text === base.text || save.isPending} onPress={() => save.mutate(undefined)}>
          Save to the draft
        </Button>
        <Soft>Callers see nothing of it before a release.</Soft>
      </RowOf>
      {newer && !untouched && (
        <Notice $tone="warn" role="alert">
          {file.changed_by} has saved another text in the meantime; yours cannot be saved over it.{" "}
          <Button onPress={() => take(file)}>Take theirs: yours is lost</Button>
        </Notice>
      )}
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

/** Marks a line of a text, and brings it where it can be seen. */
function showLine(area: HTMLTextAreaElement | null, line: number) {
  if (!area || line < 1) return;
  const lines = area.value.split("\n");
  if (line > lines.length) return;
  const from = lines.slice(0, line - 1).reduce((sum, l) => sum + l.length + 1, 0);
  area.focus();
  area.setSelectionRange(from, from + (lines[line - 1]?.length ?? 0));
  area.scrollTop = ((line - 1) / lines.length) * area.scrollHeight - area.clientHeight / 3;
}
