import styled from "styled-components";

import { Loaded, Sheet, Soft, Table, When } from "../../parts";
import { useApi } from "../client";
import type { LeftView } from "../schema";

/** What is left of limits and quotas. */
export function Left({ application }: { application: string }) {
  const limits = useApi("GET /api/limits", { query: { application } }, 5_000);
  return (
    <Sheet aria-label="What is left">
      <h2>What is left</h2>
      <Loaded of={limits}>
        {(list) => (
          <Table
            label="Limits"
            head={["API", "Limit", "Left", "Free again"]}
            empty="Nothing that it has agreed to has a limit of its own."
            rows={list.map((l, i) => ({
              key: `${l.facade} ${i}`,
              worth: [l.facade, l.rule, l.left, l.free_at],
              cells: [
                l.facade,
                l.rule,
                <Meter key="l" of={l} />,
                l.left === l.most ? <Soft key="f">all of it is</Soft> : <When key="f" at={l.free_at} />,
              ],
            }))}
          />
        )}
      </Loaded>
    </Sheet>
  );
}

function Meter({ of }: { of: LeftView }) {
  const words = `${of.left} of ${of.most}`;
  const share = of.most > 0 ? of.left / of.most : 0;
  return (
    <span>
      {words}
      <Bar aria-hidden>
        <span
          style={{ width: `${Math.round(share * 100)}%`, background: share > 0.2 ? "var(--accent)" : "var(--warn)" }}
        />
      </Bar>
    </span>
  );
}

const Bar = styled.span`
  display: block;
  width: 8rem;
  max-width: 100%;
  height: 6px;
  border-radius: 3px;
  background: var(--sunken);
  overflow: hidden;
  span {
    display: block;
    height: 100%;
  }
`;
