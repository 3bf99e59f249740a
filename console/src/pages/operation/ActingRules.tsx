import styled from "styled-components";

import type { EffectiveRule } from "../../api/schema";
import { Place } from "../../parts";

/** The rules that act on an operation, in their order; and those that do not, with what holds in their place. */
export function ActingRules({ rules }: { rules: EffectiveRule[] }) {
  const acting = rules.filter((r) => !r.overridden_by);
  const overridden = rules.filter((r) => r.overridden_by);
  return (
    <>
      <h2>Rules that act</h2>
      <RuleList>
        {acting.map((r, i) => (
          <li key={i}>
            {r.rule}
            <small>
              {r.stage} · <From of={r} />
            </small>
          </li>
        ))}
      </RuleList>
      {overridden.length > 0 && (
        <>
          <h2>Overridden</h2>
          <RuleList>
            {overridden.map((r, i) => (
              <li key={i}>
                <s>{r.rule}</s>
                <small>
                  <From of={r} />
                </small>
                {r.overridden_by && (
                  <small>
                    holds in its place: {r.overridden_by.rule} · <From of={r.overridden_by} />
                  </small>
                )}
              </li>
            ))}
          </RuleList>
        </>
      )}
    </>
  );
}

function From({ of }: { of: { reach: string; file: string; line: number } }) {
  return (
    <>
      {of.reach}
      {of.file && (
        <>
          {" · "}
          <Place file={of.file} line={of.line} short />
        </>
      )}
    </>
  );
}

const RuleList = styled.ol`
  margin: 0;
  padding: 0;
  list-style: none;
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: var(--space-2);
  overflow-wrap: anywhere;
  li {
    border-left: 2px solid var(--line);
    padding-left: var(--space-2);
  }
  small {
    color: var(--ink-soft);
    display: block;
  }
`;
