import styled from "styled-components";

import type { WiredCall, WiredRefusal } from "../../api/schema";
import { Soft } from "../../parts";

/** The calls of an operation, those that may run at once below each other, with what is refused on the way. */
export function Calls({ calls, refusals }: { calls: WiredCall[]; refusals: WiredRefusal[] }) {
  const turns = [...new Set(calls.map((c) => c.turn))];
  return (
    <>
      {calls.length > 0 && (
        <>
          <h2>Calls</h2>
          <Turns aria-label="Calls, in the order in which they may begin">
            {turns.map((turn, i) => (
              <li key={turn}>
                <Soft>{heading(i, calls.filter((c) => c.turn === turn).length)}</Soft>
                {calls
                  .filter((c) => c.turn === turn)
                  .map((c) => (
                    <OneCall key={c.name} call={c} />
                  ))}
              </li>
            ))}
          </Turns>
        </>
      )}
      {refusals.length > 0 && (
        <>
          <h2>Refused</h2>
          <Refusals aria-label="Refusals, in their order">
            {refusals.map((r, i) => (
              <li key={i}>
                <b>{r.status}</b> {r.title}
                <Soft as="div">
                  when <code>{r.when}</code>
                  {r.needs.length === 0 ? ", before anything is called" : `, as soon as ${listed(r.needs)} answered`}
                </Soft>
              </li>
            ))}
          </Refusals>
        </>
      )}
    </>
  );
}

function heading(turn: number, calls: number): string {
  const when = turn === 0 ? "First" : "Then";
  return calls > 1 ? `${when}, at once` : when;
}

function listed(names: string[]): string {
  return names.join(" and ");
}

function OneCall({ call }: { call: WiredCall }) {
  return (
    <Box>
      <b>{call.name}</b> <Soft>{call.backend}</Soft>
      {call.needs.length > 0 && <Soft as="div">needs {listed(call.needs)}</Soft>}
      {call.when && (
        <Soft as="div">
          when <code>{call.when}</code>
        </Soft>
      )}
      {call.each && (
        <Soft as="div">
          for each of <code>{call.each}</code>
        </Soft>
      )}
      {call.messages && <Soft as="div">{call.messages}</Soft>}
      {call.pages && (
        <Soft as="div">
          page after page, as long as there is <code>{call.pages}</code>
        </Soft>
      )}
      {call.writes && <Soft as="div">changes something{call.undone ? ", and is undone when it must be" : ""}</Soft>}
      {call.otherwise && <Soft as="div">with something in its place where it fails</Soft>}
    </Box>
  );
}

const Turns = styled.ol`
  margin: 0;
  padding: 0;
  list-style: none;
  display: flex;
  flex-wrap: wrap;
  gap: var(--space-3);
  > li {
    display: grid;
    gap: var(--space-2);
    align-content: start;
    flex: 1 1 180px;
    min-width: 0;
  }
`;

const Box = styled.div`
  border: 1px solid var(--line);
  border-radius: var(--radius);
  padding: var(--space-2);
  overflow-wrap: anywhere;
`;

const Refusals = styled.ol`
  margin: 0;
  padding: 0;
  list-style: none;
  display: grid;
  gap: var(--space-2);
  overflow-wrap: anywhere;
`;
