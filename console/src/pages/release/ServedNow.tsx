import type { Released } from "../../api/schema";
import { Code, Copy, Notice, Table } from "../../parts";

/** What callers are served after a release, and a call of it. */
export function ServedNow({ released }: { released: Released }) {
  const call = released.call;
  const line = call && `porch call ${call.method} '${call.path}'${call.body ? ` --body '${call.body}'` : ""}`;
  return (
    <Notice $tone="accent" role="status">
      <strong>Release {released.number} is live.</strong>{" "}
      {released.removed.length > 0 && `No longer served: ${released.removed.join(", ")}.`}
      <Table
        plain
        label="Served now"
        head={["Served now", "Version", "#Operations", "At"]}
        empty="Nothing is served."
        rows={released.serves.map((f) => ({
          key: f.name,
          cells: [f.name, f.version, f.operations, <code key="a">{f.address}</code>],
        }))}
      />
      {line && (
        <>
          Call it:
          <Code>{line}</Code>
          <Copy text={line} what="the call" />
        </>
      )}
    </Notice>
  );
}
