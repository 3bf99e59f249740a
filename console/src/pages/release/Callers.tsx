import type { Difference } from "../../api/schema";

/** Who would notice that facades are no longer served. */
export function Callers({ list }: { list: Difference[] }) {
  return (
    <ul>
      {list.map((d) => (
        <li key={d.facade}>
          {d.facade}: its callers get 404.{" "}
          {(d.used_by ?? []).length === 0
            ? "Nobody called it in the last seven days."
            : (d.used_by ?? [])
                .map((u) => `${u.consumer} called ${u.operation} ${u.calls} times in the last seven days.`)
                .join(" ")}
        </li>
      ))}
    </ul>
  );
}
