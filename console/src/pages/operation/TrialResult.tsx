import type { TrialResult as Reply } from "../../api/schema";
import { Code, RowOf, Soft, StatusTag } from "../../parts";
import { pretty, took } from "../../parts/format";
import { Stages } from "../../parts/Stages";

/** What came back, and every stage on the way. */
export function TrialResult({ reply }: { reply: Reply }) {
  return (
    <div role="region" aria-label="Result of the trial run">
      <RowOf>
        <StatusTag status={reply.status} />
        <Soft>in {took(reply.trace.us)}</Soft>
        {!reply.released && <Soft>— callers are not served this draft yet</Soft>}
      </RowOf>
      <Code data-testid="trial-body">{pretty(reply.body)}</Code>
      <Stages trace={reply.trace} />
    </div>
  );
}
