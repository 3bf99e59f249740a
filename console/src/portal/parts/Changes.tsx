import { Link } from "react-router";

import styled from "styled-components";

import { Soft, Tag, When } from "../../parts";
import type { ChangedView } from "../schema";

const TONE: Record<string, "bad" | "good" | undefined> = { breaks: "bad", adds: "good" };
const WORD: Record<string, string> = { breaks: "breaks", adds: "new", tells: "note" };

/** What a release changed, in words. */
export function Changed({ of, most }: { of: ChangedView; most: number }) {
  const rest = of.changes.length - most;
  return (
    <>
      <p>
        <When at={of.at} /> <Tag>version {of.version}</Tag> {of.status === "new" && <Tag $tone="good">published</Tag>}
      </p>
      {of.changes.length > 0 && (
        <List>
          {of.changes.slice(0, most).map((c, i) => (
            <li key={i}>
              <Tag $tone={TONE[c.harm]}>{WORD[c.harm] ?? c.harm}</Tag>{" "}
              {c.operation && (
                <>
                  <Link to={`/facades/${of.facade}/${encodeURIComponent(c.operation)}`}>{c.operation}</Link>:{" "}
                </>
              )}
              {c.what}
            </li>
          ))}
          {rest > 0 && (
            <li>
              <Soft>and {rest} more</Soft>
            </li>
          )}
        </List>
      )}
    </>
  );
}

/** From when something should not be used any more, and from when it may be gone. */
export function datesOf(of: { deprecation?: string | null; sunset?: string | null }): string {
  const told = [
    of.deprecation && `It should not be used any more from ${of.deprecation}.`,
    of.sunset && `It may be gone from ${of.sunset}.`,
  ];
  return told.filter(Boolean).join(" ");
}

const List = styled.ul`
  margin: var(--space-1) 0 var(--space-2);
  padding-left: var(--space-5);
  display: grid;
  gap: var(--space-1);
`;
