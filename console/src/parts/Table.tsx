import { type ReactNode, useState } from "react";
import styled from "styled-components";

import { Field } from "./Field";
import { Soft } from "./Layout";

/** From so many rows on they can be searched. */
const MANY = 10;

/** What a cell is sorted by. */
type Worth = string | number;

interface Row {
  key: string;
  cells: ReactNode[];
  /** What cells are searched and sorted by, where they are not texts and numbers themselves. */
  worth?: (Worth | undefined)[];
}

const worthOf = (row: Row, i: number): Worth => {
  const cell = row.worth?.[i] ?? row.cells[i];
  return typeof cell === "string" || typeof cell === "number" ? cell : "";
};

const compare = (a: Worth, b: Worth): number =>
  typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b));

/** A plain table; a head that begins with `#` stands over numbers. */
export function Table(props: { label: string; head: string[]; rows: Row[]; empty: string; plain?: boolean }) {
  const [sought, setSought] = useState("");
  const [by, setBy] = useState<{ column: number; down: boolean }>();
  if (props.rows.length === 0) return <Soft>{props.empty}</Soft>;
  const numbers = props.head.map((h) => h.startsWith("#"));
  const names = props.head.map((h) => h.replace(/^#/, ""));
  const searched = !props.plain && props.rows.length >= MANY;
  const words = searched ? sought.toLowerCase().split(/\s+/).filter(Boolean) : [];
  let rows = props.rows.filter((row) => {
    const text = row.cells
      .map((_, i) => worthOf(row, i))
      .join(" ")
      .toLowerCase();
    return words.every((w) => text.includes(w));
  });
  if (by) {
    const sign = by.down ? -1 : 1;
    rows = [...rows].sort((a, b) => sign * compare(worthOf(a, by.column), worthOf(b, by.column)));
  }
  const sortable = (i: number) => !props.plain && props.rows.length > 1 && props.rows.some((r) => worthOf(r, i) !== "");
  return (
    <>
      {searched && (
        <Search>
          <Field label={`Search among ${props.rows.length}`} value={sought} onChange={setSought} />
        </Search>
      )}
      <Scroll tabIndex={0} role="region" aria-label={props.label}>
        <StyledTable>
          <thead>
            <tr>
              {names.map((name, i) => (
                <th
                  key={i}
                  scope="col"
                  className={numbers[i] ? "n" : undefined}
                  aria-sort={by?.column === i ? (by.down ? "descending" : "ascending") : undefined}
                >
                  {sortable(i) ? (
                    <Head
                      type="button"
                      onClick={() => setBy({ column: i, down: by?.column === i ? !by.down : numbers[i] === true })}
                    >
                      {name}
                      {by?.column === i && <span aria-hidden>{by.down ? " ↓" : " ↑"}</span>}
                    </Head>
                  ) : (
                    name
                  )}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.key}>
                {row.cells.map((cell, i) => (
                  <td key={i} className={numbers[i] ? "n" : undefined} data-head={names[i]}>
                    {cell}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </StyledTable>
        {rows.length === 0 && <Soft>Nothing fits “{sought}”.</Soft>}
      </Scroll>
    </>
  );
}

const Search = styled.div`
  max-width: 320px;
`;

const Scroll = styled.div`
  overflow-x: auto;
`;

const Head = styled.button`
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 0;
  min-height: 24px;
  cursor: pointer;
  &:hover {
    color: var(--accent);
  }
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
    overflow-wrap: break-word;
  }
  td code {
    overflow-wrap: anywhere;
  }
  td.n,
  th.n {
    text-align: right;
    font-variant-numeric: tabular-nums;
    white-space: nowrap;
  }
  @media (max-width: 640px) {
    thead {
      display: none;
    }
    tr {
      display: block;
      padding: var(--space-2) 0;
      border-bottom: 1px solid var(--line);
    }
    td,
    td.n {
      display: grid;
      grid-template-columns: 110px minmax(0, 1fr);
      justify-items: start;
      gap: var(--space-2);
      text-align: left;
      white-space: normal;
      overflow-wrap: anywhere;
      border: 0;
      padding: 2px 0;
    }
    td:empty {
      display: none;
    }
    td::before {
      content: attr(data-head);
      color: var(--ink-soft);
      font-size: var(--size-s);
    }
  }
`;
