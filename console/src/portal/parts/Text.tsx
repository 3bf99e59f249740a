import styled from "styled-components";

const Body = styled.div`
  max-width: 46rem;
  overflow-wrap: anywhere;
  > * + * {
    margin-top: var(--space-3);
  }
  h1,
  h2,
  h3 {
    margin-top: var(--space-4);
  }
  ul,
  ol {
    padding-left: var(--space-5);
    margin-bottom: 0;
  }
  pre {
    background: var(--sunken);
    padding: var(--space-2) var(--space-3);
    border-radius: var(--round);
    overflow-x: auto;
    white-space: pre-wrap;
  }
  table {
    border-collapse: collapse;
    display: block;
    overflow-x: auto;
  }
  th,
  td {
    text-align: left;
    padding: var(--space-1) var(--space-3) var(--space-1) 0;
    border-bottom: 1px solid var(--line);
  }
`;

/** A text of the publisher's: HTML that the service made of Markdown and took everything out of that runs or loads. */
export function Text({ html }: { html: string }) {
  return <Body dangerouslySetInnerHTML={{ __html: html }} />;
}
