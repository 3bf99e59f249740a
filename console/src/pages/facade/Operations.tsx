import { Link } from "react-router";

import type { FacadeView } from "../../api/schema";
import { Table, Tag } from "../../parts";

/** The operations of a facade with their calls in the last hour. */
export function Operations({ data }: { data: FacadeView }) {
  return (
    <Table
      label="Operations"
      head={["Operation", "Method", "Path", "What it does", "Backend", "#Calls (1 h)", "#Refused", "#Failed"]}
      empty="The contract has no operation."
      rows={data.operations.map((o) => ({
        key: o.id,
        worth: [o.id, undefined, o.path, undefined, o.backend],
        cells: [
          o.backend || o.examples ? (
            <Link key="l" to={`/facades/${data.name}/${o.id}`}>
              {o.id}
            </Link>
          ) : (
            o.id
          ),
          o.method,
          <code key="p">{o.path}</code>,
          o.summary,
          o.backend || <Tag $tone="warn">{o.examples ? "examples" : "not wired"}</Tag>,
          o.calls,
          o.refused,
          o.failed,
        ],
      }))}
    />
  );
}
