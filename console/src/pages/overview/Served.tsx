import { Link } from "react-router";

import type { Overview } from "../../api/schema";
import { Sheet, Soft } from "../../parts";
import { time } from "../../parts/format";

/** What callers get, and where. */
export function Served({ data }: { data: Overview }) {
  return (
    <Sheet>
      <h2>What is served</h2>
      {data.release === 0 ? (
        <p>
          Nothing yet. <Link to="/publish">Publish a backend</Link>, then release it.
        </p>
      ) : (
        <p>
          {data.environment} serves release {data.release}
          {data.from_disk && ", from disk"}, made by {data.made_by} at {time(data.made_at)}.
        </p>
      )}
      <p>
        <Soft>Callers reach it at</Soft> <code>{data.gateway}</code>
      </p>
    </Sheet>
  );
}
