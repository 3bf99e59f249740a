import { Button as AriaButton } from "react-aria-components";
import styled, { css } from "styled-components";

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
