import styled from "styled-components";

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
