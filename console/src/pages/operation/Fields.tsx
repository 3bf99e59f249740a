import type { Row } from "../../api/schema";
import { Soft, Table } from "../../parts";

/** A field with its type below it. */
function Typed({ name, type, more }: { name: string; type: string; more?: string }) {
  return (
    <>
      {name}
      {more && <Soft> {more}</Soft>}
      {type && (
        <Soft as="div" style={{ overflowWrap: "anywhere" }}>
          {type}
        </Soft>
      )}
    </>
  );
}

/** Fields of callers beside those of the backend; the backend's type is told where it is another one. */
export function Fields({ rows, label, left }: { rows: Row[]; label: string; left: string }) {
  return (
    <Table
      label={label}
      head={[left, "What happens", "Backend"]}
      empty="No fields."
      rows={rows.map((r, i) => ({
        key: String(i),
        cells: [
          <Typed key="c" name={r.caller} type={r.caller_type} more={r.caller && !r.required ? "(optional)" : ""} />,
          r.what === "as it is" ? <Soft key="w">as it is</Soft> : <code key="w">{r.what}</code>,
          <Typed key="b" name={r.backend} type={r.backend_type === r.caller_type ? "" : r.backend_type} />,
        ],
      }))}
    />
  );
}
