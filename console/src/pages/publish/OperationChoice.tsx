import type { Looked } from "../../api/schema";
import { Soft, Table, Tag } from "../../parts";

/** Operations as they would be published, each to be taken or left out. */
export function OperationChoice(props: {
  operations: Looked["operations"];
  chosen: string[];
  onChange: (chosen: string[]) => void;
}) {
  const { operations, chosen, onChange } = props;
  return (
    <Table
      label="Operations found"
      head={["", "Operation", "As REST", "Why this shape", "Inputs"]}
      empty="No operation fits."
      rows={operations.map((o) => ({
        key: o.id,
        cells: [
          <input
            key="c"
            type="checkbox"
            aria-label={`Publish ${o.source}`}
            disabled={!o.available}
            checked={chosen.includes(o.source)}
            onChange={(e) => onChange(e.target.checked ? [...chosen, o.source] : chosen.filter((s) => s !== o.source))}
          />,
          <span key="n">
            {o.source} <Soft>{o.documentation}</Soft>
          </span>,
          <code key="p" style={{ whiteSpace: "nowrap" }}>
            {o.method} {o.path}
          </code>,
          o.available ? <Soft key="r">{o.reason}</Soft> : <Tag $tone="warn">cannot be called: {o.why}</Tag>,
          <Soft key="i">{o.inputs.map((f) => f.name + (f.required ? "" : "?")).join(", ")}</Soft>,
        ],
      }))}
    />
  );
}
