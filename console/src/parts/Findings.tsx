import type { Finding } from "../api/schema";
import { Soft } from "./Layout";
import { Place } from "./Place";
import { Tag } from "./Tag";

export function Findings({ findings }: { findings: Finding[] }) {
  if (findings.length === 0) return null;
  return (
    <div role="list" aria-label="Findings">
      {findings.map((f, i) => (
        <div role="listitem" key={i}>
          <Tag $tone={f.severity === "error" ? "bad" : f.severity === "warning" ? "warn" : undefined}>{f.severity}</Tag>{" "}
          {f.file && <Place file={f.file} line={f.line} />} {f.pointer && <code>{f.pointer}</code>} {f.message}{" "}
          {f.help && <Soft>({f.help})</Soft>}
        </div>
      ))}
    </div>
  );
}
