import { useState } from "react";

import type { Looked } from "../../api/schema";
import { Fold, Notice, RowOf, Sheet, Soft, Tag } from "../../parts";
import { OperationChoice } from "./OperationChoice";
import { OperationSearch } from "./OperationSearch";
import type { Chosen } from "./source";

/** So many operations are listed at once. */
const MOST = 50;
/** From so many on they can be searched. */
const MANY = 12;

export function FoundOperations(props: {
  look: Looked;
  chosen: string[];
  onChange: (chosen: string[]) => void;
  shapes: Record<string, Chosen>;
  onShapes: (shapes: Record<string, Chosen>) => void;
}) {
  const { look, chosen, onChange } = props;
  const [search, setSearch] = useState("");
  const words = search.toLowerCase().split(/\s+/);
  const listed = look.operations.filter((o) =>
    words.every((w) => `${o.source} ${o.path} ${o.documentation}`.toLowerCase().includes(w)),
  );
  const lossy = look.operations.filter((o) => o.losses.length > 0);
  return (
    <Sheet>
      <RowOf>
        <h2>{look.title}</h2>
        <Tag>{look.kind === "grpc" ? "gRPC" : look.kind.toUpperCase()}</Tag>
        {look.operations[0]?.style && <Soft>{look.operations[0].style}</Soft>}
      </RowOf>
      <p>{look.documentation}</p>
      {look.notes.map((note) => (
        <Notice key={note} $tone="warn">
          {note}
        </Notice>
      ))}
      {look.findings.length > 0 && (
        <Fold title={`What was odd about it (${look.findings.length})`}>
          <ul>
            {look.findings.map((f) => (
              <li key={f.where + f.message}>
                {f.message} <Soft>{f.where}</Soft>
              </li>
            ))}
          </ul>
        </Fold>
      )}
      {look.operations.length > MANY && (
        <OperationSearch look={look} listed={listed} search={search} onSearch={setSearch} {...{ chosen, onChange }} />
      )}
      <OperationChoice
        operations={listed.slice(0, MOST)}
        chosen={chosen}
        onChange={onChange}
        shapes={props.shapes}
        onShapes={props.onShapes}
      />
      {listed.length > MOST && (
        <Soft>
          The first {MOST} of {listed.length} are shown; search for the others.
        </Soft>
      )}
      {lossy.length > 0 && (
        <Fold title="What JSON cannot carry">
          {lossy.map((o) => (
            <p key={o.id}>
              {o.source}: {o.losses.join("; ")}
            </p>
          ))}
        </Fold>
      )}
    </Sheet>
  );
}
