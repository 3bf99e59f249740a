import type { ReactNode } from "react";
import { Button as AriaButton, Disclosure, DisclosurePanel, Heading } from "react-aria-components";
import styled from "styled-components";

import { Soft } from "./Layout";

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
