import { css } from "styled-components";

/** The look of what can be typed into. */
export const inputLook = css`
  font: inherit;
  color: var(--ink);
  background: var(--ground);
  border: 1px solid var(--line);
  border-radius: var(--round);
  padding: var(--space-1) var(--space-2);
  width: 100%;
`;
