import type { Row } from "../../api/schema";
import { Soft, Table } from "../../parts";

export function Fields({ rows, label, left }: { rows: Row[]; label: string; left: string }) {
  return (
    <Table
      label={label}
      head={[left, "Type", "What happens", "Backend", "Type"]}
      empty="No fields."
      rows={rows.map((r, i) => ({
        key: String(i),
        cells: [
          <span key="c">
            {r.caller}
            {r.caller && !r.required && <Soft> (optional)</Soft>}
          </span>,
          <Soft key="t">{r.caller_type}</Soft>,
          r.what === "as it is" ? <Soft key="w">as it is</Soft> : <code key="w">{r.what}</code>,
          r.backend,
          <Soft key="b">{r.backend_type}</Soft>,
        ],
      }))}
    />
  );
}
