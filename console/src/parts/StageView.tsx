import styled from "styled-components";

import type { Stage } from "../api/schema";
import { Fold } from ".";
import { took } from "./format";
import { MessageView } from "./MessageView";

export function StageView({ stage, open }: { stage: Stage; open: boolean }) {
  return (
    <Fold
      title={stage.step ? `${stage.name} of ${stage.step}` : stage.name}
      aside={`at ${took(stage.from_us)}, took ${took(stage.us)}`}
      open={open}
    >
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
