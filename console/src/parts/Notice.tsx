import styled from "styled-components";

export const Notice = styled.div<{ $tone: "warn" | "bad" | "accent" }>`
  border-left: 3px solid var(--${(p) => p.$tone});
  background: var(--${(p) => p.$tone}-wash);
  padding: var(--space-2) var(--space-3);
  border-radius: 0 var(--round) var(--round) 0;
`;
