import styled from "styled-components";

import { inputLook } from "../../parts/look";

/** One of a few. */
export function Pick(props: { label: string; value: string; onChange: (value: string) => void; choices: string[] }) {
  return (
    <Labelled>
      <small>{props.label}</small>
      <Select value={props.value} onChange={(e) => props.onChange(e.target.value)}>
        {props.choices.map((c) => (
          <option key={c}>{c}</option>
        ))}
      </Select>
    </Labelled>
  );
}

const Labelled = styled.label`
  display: grid;
  gap: 2px;
  small {
    font-size: var(--size-s);
    color: var(--ink-soft);
  }
`;

const Select = styled.select`
  ${inputLook}
`;
