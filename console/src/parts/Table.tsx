import type { ReactNode } from "react";
import styled from "styled-components";

import { Soft } from "./Layout";

const Scroll = styled.div`
  overflow-x: auto;
`;

const StyledTable = styled.table`
  border-collapse: collapse;
  width: 100%;
  th {
    text-align: left;
    font-size: var(--size-s);
    font-weight: 500;
    color: var(--ink-soft);
    padding: var(--space-1) var(--space-3) var(--space-1) 0;
    border-bottom: 1px solid var(--line);
    white-space: nowrap;
  }
  td {
    padding: var(--space-1) var(--space-3) var(--space-1) 0;
    border-bottom: 1px solid var(--sunken);
    vertical-align: top;
  }
  td.n,
  th.n {
    text-align: right;
    font-variant-numeric: tabular-nums;
    white-space: nowrap;
  }
`;

/** A plain table; a head that begins with `#` stands over numbers. */
export function Table(props: {
  label: string;
  head: string[];
  rows: { key: string; cells: ReactNode[] }[];
  empty: string;
}) {
  if (props.rows.length === 0) return <Soft>{props.empty}</Soft>;
  const numbers = props.head.map((h) => h.startsWith("#"));
  return (
    <Scroll tabIndex={0} role="region" aria-label={props.label}>
      <StyledTable>
        <thead>
          <tr>
            {props.head.map((h, i) => (
              <th key={i} scope="col" className={numbers[i] ? "n" : undefined}>
                {h.replace(/^#/, "")}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {props.rows.map((row) => (
            <tr key={row.key}>
              {row.cells.map((cell, i) => (
                <td key={i} className={numbers[i] ? "n" : undefined}>
                  {cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </StyledTable>
    </Scroll>
  );
}
