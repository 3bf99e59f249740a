import type { ReactNode } from "react";
import styled from "styled-components";

import { Page } from "../../parts";

const Main = styled(Page)`
  margin: 0 auto;
`;

const Narrow = styled(Main)`
  max-width: 30rem;
`;

/** The content of a page. */
export function Content(props: { children: ReactNode; narrow?: boolean }) {
  const As = props.narrow ? Narrow : Main;
  return <As id="main">{props.children}</As>;
}

export const Grid = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(100%, 280px), 1fr));
  gap: var(--space-3);
`;

/** A method, as wide as others. */
export const Method = styled.code`
  display: inline-block;
  min-width: 4.2em;
  font-weight: 600;
  color: var(--accent);
`;
