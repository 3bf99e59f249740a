import styled from "styled-components";

import type { Message, Stage, Trace } from "../api/schema";
import { Code, Fold, Notice, Soft } from ".";
import { pretty, took } from "./format";

const Columns = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(320px, 1fr));
  gap: var(--space-3);
  padding: var(--space-1) 0 var(--space-3) var(--space-5);
`;

const List = styled.ul`
  margin: 0;
  padding: 0 0 var(--space-2) 42px;
`;

function MessageView({ message, label }: { message: Message; label: string }) {
  return (
    <div>
      <Soft>{label}</Soft>
      <Code>
        {message.head}
        {message.headers.map(([name, value]) => `\n${name}: ${value}`).join("")}
        {message.body && `\n\n${pretty(message.body)}`}
      </Code>
    </div>
  );
}

function StageView({ stage, open }: { stage: Stage; open: boolean }) {
  return (
    <Fold title={stage.name} aside={`at ${took(stage.from_us)}, took ${took(stage.us)}`} open={open}>
      {stage.notes.length > 0 && (
        <List>
          {stage.notes.map((note, i) => (
            <li key={i}>{note}</li>
          ))}
        </List>
      )}
      {(stage.before || stage.after) && (
        <Columns>
          {stage.before && <MessageView message={stage.before} label="before" />}
          {stage.after && <MessageView message={stage.after} label="after" />}
        </Columns>
      )}
    </Fold>
  );
}

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
                {trace.refusal.file && `, ${trace.refusal.file}:${trace.refusal.line}`}
              </Soft>
            </>
          )}
        </Notice>
      )}
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
