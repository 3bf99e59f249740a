import styled from "styled-components";

import { Code } from "../../parts";

export function Diff({ text }: { text: string }) {
  const lines = text.split("\n").filter((l) => !l.startsWith("---") && !l.startsWith("+++"));
  return (
    <Code as="div">
      {lines.map((line, i) => (
        <Line key={i} data-kind={line.charAt(0)}>
          {line || " "}
        </Line>
      ))}
    </Code>
  );
}

const Line = styled.div`
  &[data-kind="+"] {
    color: var(--good);
  }
  &[data-kind="-"] {
    color: var(--bad);
  }
`;
