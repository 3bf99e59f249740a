import type { Trace } from "../api/schema";
import { Notice, Place, Soft } from ".";
import { StageView } from "./StageView";

/** An exchange, stage by stage; the one that ended it is open. */
export function Stages({ trace }: { trace: Trace }) {
  return (
    <div>
      {trace.refusal && (
        <Notice $tone="warn">
          {trace.refusal.why}
          {trace.refusal.rule && (
            <>
              {" "}
              <Soft>
                — the rule “{trace.refusal.rule}”, reach {trace.refusal.reach}
                {trace.refusal.file && (
                  <>
                    , <Place file={trace.refusal.file} line={trace.refusal.line} />
                  </>
                )}
              </Soft>
            </>
          )}
        </Notice>
      )}
      {trace.misfit && <Notice $tone="warn">Callers got it all the same, but {trace.misfit}.</Notice>}
      {trace.stages.map((stage, i) => (
        <StageView
          key={i}
          stage={stage}
          open={trace.refusal ? stage.name === trace.refusal.stage : stage.name === "prepare" || stage.name === "reply"}
        />
      ))}
    </div>
  );
}
