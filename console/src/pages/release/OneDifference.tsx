import type { Difference } from "../../api/schema";
import { DraftTag, Fold, RowOf, Sheet, Soft, Tag } from "../../parts";
import { Diff } from "./Diff";

export function OneDifference({ d }: { d: Difference }) {
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
      {(d.shared ?? []).map((s) => (
        <div key={s.file}>
          <Tag $tone="warn">shared</Tag> <code>{s.file}</code> changes {s.facades.join(", ")} too
        </div>
      ))}
      {(d.used_by ?? []).map((u, i) => (
        <div key={i}>
          {u.consumer} called {u.operation} {u.calls} times in the last seven days
        </div>
      ))}
      {Object.entries(d.files).map(([file, text]) => (
        <Fold key={file} title={<code>{file}</code>} open={isShownFirst(d, file)}>
          <Diff text={text} />
        </Fold>
      ))}
    </Sheet>
  );
}

/** What changes several facades is opened for the first of them; it is the same for the others. */
function isShownFirst(d: Difference, file: string): boolean {
  const shared = (d.shared ?? []).find((s) => s.file === file);
  return !shared || shared.facades.every((other) => d.facade < other);
}
