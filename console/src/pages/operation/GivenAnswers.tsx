import styled from "styled-components";

import { Area, Field, Fold, Soft } from "../../parts";
import type { GivenAnswer } from "./given";

/** Answers that a trial run takes in place of calls. */
export function GivenAnswers({
  names,
  answers,
  onAnswers,
  exchange,
  onExchange,
}: {
  names: string[];
  answers: Record<string, GivenAnswer>;
  onAnswers: (answers: Record<string, GivenAnswer>) => void;
  exchange: string;
  onExchange: (id: string) => void;
}) {
  return (
    <Fold title="Answers in place of calls" open={exchange !== ""}>
      <Soft>A call whose answer stands here is not made. A reply can be shaped without its backends.</Soft>
      <div style={{ marginTop: 8 }}>
        <Field label="exchange whose answers stand in place of its calls" value={exchange} onChange={onExchange} />
      </div>
      {names.map((name) => {
        const given = answers[name] ?? { status: "", body: "" };
        const put = (more: Partial<GivenAnswer>) => onAnswers({ ...answers, [name]: { ...given, ...more } });
        return (
          <One key={name}>
            <Field label={`status of ${name}`} value={given.status} onChange={(status) => put({ status })} />
            <Area
              aria-label={`Body of ${name}`}
              placeholder={`JSON that ${name} answers; empty: it is called`}
              rows={2}
              value={given.body}
              onChange={(e) => put({ body: e.target.value })}
            />
          </One>
        );
      })}
    </Fold>
  );
}

const One = styled.div`
  display: grid;
  grid-template-columns: 140px minmax(0, 1fr);
  gap: var(--space-3);
  align-items: end;
  margin-top: var(--space-2);
`;
