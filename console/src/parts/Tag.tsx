import styled from "styled-components";

export const Tag = styled.span<{ $tone?: "good" | "warn" | "bad" | "accent" }>`
  display: inline-block;
  font-size: var(--size-s);
  padding: 0 var(--space-2);
  border-radius: 999px;
  white-space: nowrap;
  border: 1px solid currentColor;
  color: ${(p) => (p.$tone ? `var(--${p.$tone})` : "var(--ink-soft)")};
`;
