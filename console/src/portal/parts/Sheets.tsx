import type { ReactNode } from "react";
import styled from "styled-components";

import { Page } from "../../parts";

const Main = styled(Page)`
  margin: 0 auto;
`;

const Narrow = styled(Main)`
  max-width: 30rem;
`;

const Middle = styled(Main)`
  max-width: 46rem;
`;

/** The content of a page. */
export function Content(props: { children: ReactNode; narrow?: boolean; middle?: boolean }) {
  const As = props.narrow ? Narrow : props.middle ? Middle : Main;
  return <As id="main">{props.children}</As>;
}

const Column = styled.form`
  display: grid;
  gap: var(--space-3);
`;

/** A form that is sent by the page itself. */
export function Form(props: { onSend: () => void; children: ReactNode }) {
  return (
    <Column
      onSubmit={(e) => {
        e.preventDefault();
        props.onSend();
      }}
    >
      {props.children}
    </Column>
  );
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
