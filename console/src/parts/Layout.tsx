import styled from "styled-components";

export const Page = styled.main`
  padding: var(--space-5) var(--space-6);
  max-width: 1200px;
  min-width: 0;
  grid-template-columns: minmax(0, 1fr);
  @media (max-width: 720px) {
    padding: var(--space-3);
  }
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
