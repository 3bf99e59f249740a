import type { ReactNode } from "react";
import {
  Button as AriaButton,
  Disclosure,
  DisclosurePanel,
  Heading,
  Input,
  Label,
  TextField,
} from "react-aria-components";
import styled, { css } from "styled-components";

import type { ApiError } from "../api/client";
import type { Finding } from "../api/types";

export const Page = styled.main`
  padding: var(--space-5) var(--space-6);
  max-width: 1200px;
  display: grid;
  gap: var(--space-4);
  align-content: start;
`;

export const Sheet = styled.section`
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: var(--round);
  padding: var(--space-4);
  display: grid;
  gap: var(--space-3);
  min-width: 0;
  align-content: start;
`;

export const RowOf = styled.div<{ $gap?: string }>`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${(p) => p.$gap ?? "var(--space-3)"};
`;

export const Whole = styled.span`
  white-space: nowrap;
`;

export const Soft = styled.span`
  color: var(--ink-soft);
  font-weight: 400;
`;

export const Button = styled(AriaButton)<{ $kind?: "main" | "bad" }>`
  font: inherit;
  padding: var(--space-1) var(--space-3);
  border-radius: var(--round);
  border: 1px solid var(--line);
  background: var(--sheet);
  color: var(--ink);
  cursor: pointer;
  &[data-hovered] {
    border-color: var(--accent);
  }
  &[data-disabled] {
    opacity: 0.55;
    cursor: default;
  }
  ${(p) =>
    p.$kind === "main" &&
    css`
      background: var(--accent);
      border-color: var(--accent);
      color: var(--accent-ink);
    `}
  ${(p) =>
    p.$kind === "bad" &&
    css`
      color: var(--bad);
      border-color: var(--bad);
    `}
`;

const inputLook = css`
  font: inherit;
  color: var(--ink);
  background: var(--ground);
  border: 1px solid var(--line);
  border-radius: var(--round);
  padding: var(--space-1) var(--space-2);
  width: 100%;
`;

const StyledInput = styled(Input)`
  ${inputLook}
`;

const StyledLabel = styled(Label)`
  font-size: var(--size-s);
  color: var(--ink-soft);
`;

export const Area = styled.textarea`
  ${inputLook}
  font-family: var(--code);
  font-size: var(--size-s);
  resize: vertical;
`;

const StyledField = styled(TextField)`
  display: grid;
  gap: 2px;
  min-width: 0;
`;

export function Field(props: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  type?: string;
  required?: boolean;
  autoFocus?: boolean;
  autoComplete?: string;
}) {
  return (
    <StyledField
      value={props.value}
      onChange={props.onChange}
      type={props.type ?? "text"}
      isRequired={props.required}
      autoFocus={props.autoFocus}
      autoComplete={props.autoComplete}
    >
      <StyledLabel>{props.label}</StyledLabel>
      <StyledInput />
    </StyledField>
  );
}

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

export const Tag = styled.span<{ $tone?: "good" | "warn" | "bad" | "accent" }>`
  display: inline-block;
  font-size: var(--size-s);
  padding: 0 var(--space-2);
  border-radius: 999px;
  white-space: nowrap;
  border: 1px solid currentColor;
  color: ${(p) => (p.$tone ? `var(--${p.$tone})` : "var(--ink-soft)")};
`;

export const Notice = styled.div<{ $tone: "warn" | "bad" | "accent" }>`
  border-left: 3px solid var(--${(p) => p.$tone});
  background: var(--${(p) => p.$tone}-wash);
  padding: var(--space-2) var(--space-3);
  border-radius: 0 var(--round) var(--round) 0;
`;

export function StatusTag({ status }: { status: number }) {
  return <Tag $tone={status < 400 ? "good" : status < 500 ? "warn" : "bad"}>{status}</Tag>;
}

/** How a facade's draft stands to what callers are served. */
export function DraftTag({ status }: { status: string }) {
  if (status === "same") return <Tag $tone="good">served as drafted</Tag>;
  if (status === "new") return <Tag $tone="warn">not served yet</Tag>;
  if (status === "gone") return <Tag $tone="warn">served, not in the draft</Tag>;
  return <Tag $tone="warn">draft differs</Tag>;
}

export function Findings({ findings }: { findings: Finding[] }) {
  if (findings.length === 0) return null;
  return (
    <div role="list" aria-label="Findings">
      {findings.map((f, i) => (
        <div role="listitem" key={i}>
          <Tag $tone={f.severity === "error" ? "bad" : f.severity === "warning" ? "warn" : undefined}>{f.severity}</Tag>{" "}
          <code>
            {f.file}:{f.line}:{f.column}
          </code>{" "}
          {f.message} {f.help && <Soft>({f.help})</Soft>}
        </div>
      ))}
    </div>
  );
}

export function Problem({ error }: { error: ApiError }) {
  return (
    <Notice $tone="bad" role="alert">
      <strong>{error.message}</strong> {error.detail}
      <Findings findings={error.findings} />
    </Notice>
  );
}

/** Loading, error or content of something asked for. */
export function Loaded<T>(props: {
  of: { data: T | undefined; error: ApiError | null; isPending: boolean };
  children: (data: T) => ReactNode;
}) {
  if (props.of.data !== undefined) return <>{props.children(props.of.data)}</>;
  if (props.of.error) return <Problem error={props.of.error} />;
  return <Soft role="status">Loading…</Soft>;
}

const Summary = styled(AriaButton)`
  all: unset;
  cursor: pointer;
  display: flex;
  gap: var(--space-3);
  align-items: baseline;
  width: 100%;
  padding: var(--space-1) 0;
  &[data-focus-visible] {
    outline: 2px solid var(--accent);
  }
`;

/** Something that opens and closes. */
export function Fold(props: { title: ReactNode; aside?: ReactNode; open?: boolean; children: ReactNode }) {
  return (
    <Disclosure defaultExpanded={props.open}>
      {({ isExpanded }) => (
        <>
          <Heading level={3}>
            <Summary slot="trigger">
              <span aria-hidden>{isExpanded ? "▾" : "▸"}</span>
              <span>{props.title}</span>
              <Soft>{props.aside}</Soft>
            </Summary>
          </Heading>
          <DisclosurePanel>{props.children}</DisclosurePanel>
        </>
      )}
    </Disclosure>
  );
}

export const Code = styled.pre`
  font-family: var(--code);
  font-size: var(--size-s);
  margin: 0;
  padding: var(--space-2) var(--space-3);
  background: var(--sunken);
  border-radius: var(--round);
  overflow-x: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 420px;
`;
