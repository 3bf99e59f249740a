import styled from "styled-components";

import type { Looked } from "../../api/schema";
import { Soft, Table, Tag } from "../../parts";
import { inputLook } from "../../parts/look";
import type { Chosen } from "./source";

const METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE"];

/** Operations as they would be published, each to be taken or left out, under a method, path and id of one's own. */
export function OperationChoice(props: {
  operations: Looked["operations"];
  chosen: string[];
  onChange: (chosen: string[]) => void;
  shapes: Record<string, Chosen>;
  onShapes: (shapes: Record<string, Chosen>) => void;
}) {
  const { operations, chosen, onChange, shapes, onShapes } = props;
  const set = (id: string, change: Chosen) => onShapes({ ...shapes, [id]: { ...shapes[id], ...change } });
  return (
    <Table
      plain
      label="Operations found"
      head={["", "Operation", "Method", "Path", "Id", "Inputs"]}
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
          <span key="n" title={o.reason}>
            {o.source.split("/").pop()} <Soft>{o.documentation}</Soft>{" "}
            {o.available ? <Why>{o.reason}</Why> : <Tag $tone="warn">cannot be called: {o.why}</Tag>}
          </span>,
          <Choice
            key="m"
            aria-label={`Method of ${o.id}`}
            value={shapes[o.id]?.method ?? o.method}
            onChange={(e) => set(o.id, { method: e.target.value })}
          >
            {[...new Set([o.method, ...METHODS])].map((m) => (
              <option key={m}>{m}</option>
            ))}
          </Choice>,
          <Text
            key="p"
            aria-label={`Path of ${o.id}`}
            title={o.reason}
            value={shapes[o.id]?.path ?? o.path}
            onChange={(e) => set(o.id, { path: e.target.value })}
          />,
          <Text
            key="i"
            aria-label={`Id of ${o.id}`}
            value={shapes[o.id]?.id ?? o.id}
            onChange={(e) => set(o.id, { id: e.target.value })}
          />,
          <Soft key="f">{o.inputs.map((f) => f.name + (f.required ? "" : "?")).join(", ")}</Soft>,
        ],
      }))}
    />
  );
}

const Text = styled.input`
  ${inputLook}
  font-family: var(--code);
  font-size: var(--size-s);
  min-width: 120px;
`;

const Why = styled.small`
  display: block;
  color: var(--ink-soft);
`;

const Choice = styled.select`
  ${inputLook}
  font-size: var(--size-s);
  min-width: 88px;
`;
