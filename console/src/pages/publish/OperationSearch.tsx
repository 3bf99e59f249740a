import type { Looked } from "../../api/schema";
import { Button, Field, RowOf, Soft } from "../../parts";

/** Narrows a long list down, and takes or leaves all that is left. */
export function OperationSearch(props: {
  look: Looked;
  listed: Looked["operations"];
  chosen: string[];
  onChange: (chosen: string[]) => void;
  search: string;
  onSearch: (search: string) => void;
}) {
  const { look, listed, chosen, onChange } = props;
  const able = listed.filter((o) => o.available).map((o) => o.source);
  return (
    <>
      <Field label="Search operations" value={props.search} onChange={props.onSearch} />
      <RowOf>
        <Button onPress={() => onChange([...new Set([...chosen, ...able])])}>Take these {able.length}</Button>
        <Button onPress={() => onChange(chosen.filter((c) => !able.includes(c)))}>Leave these out</Button>
        <Soft>
          {look.operations.filter((o) => chosen.includes(o.source)).length} of {look.operations.length} are taken.
        </Soft>
      </RowOf>
    </>
  );
}
