import { Link } from "react-router";

import type { Overview } from "../../api/schema";
import { DraftTag, Notice } from "../../parts";

/** What somebody should know before anything else. */
export function Warnings({ data }: { data: Overview }) {
  return (
    <>
      {data.trouble && <Notice $tone="bad">{data.trouble}</Notice>}
      {data.unreleased.length > 0 && (
        <Notice $tone="warn">
          <strong>Not released:</strong> callers are not served the draft of{" "}
          {data.unreleased.map((d, i) => (
            <span key={d.facade}>
              {i > 0 && ", "}
              <Link to={`/facades/${d.facade}`}>{d.facade}</Link> <DraftTag status={d.status} />
            </span>
          ))}
          . <Link to="/release">Compare and release</Link>
        </Notice>
      )}
      {data.unreleased_offers.length > 0 && (
        <Notice $tone="warn">
          <strong>Not released:</strong> nobody is offered the draft of {data.unreleased_offers.join(", ")}.{" "}
          <Link to="/release">Compare and release</Link>
        </Notice>
      )}
      {data.open_requests > 0 && (
        <Notice $tone="accent">
          {data.open_requests === 1 ? "1 request waits" : `${data.open_requests} requests wait`} for an answer.{" "}
          <Link to="/offers">Offers and requests</Link>
        </Notice>
      )}
      {data.errors > 0 && (
        <Notice $tone="bad">
          The draft has {data.errors} {data.errors === 1 ? "error" : "errors"}.{" "}
          <Link to="/documents">See the documents</Link>
        </Notice>
      )}
      {data.paused.length > 0 && (
        <Notice $tone="warn">
          Paused: {data.paused.map(([facade, operation]) => `${facade} ${operation}`.trim()).join(", ")}
        </Notice>
      )}
    </>
  );
}
