import styled from "styled-components";

import { inputLook } from "./look";

/** One of a few: a choice is what is chosen, or that and how it is called. */
export function Pick(props: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  choices: (string | [string, string])[];
}) {
  return (
    <Labelled>
      <small>{props.label}</small>
      <Select value={props.value} onChange={(e) => props.onChange(e.target.value)}>
        {props.choices.map((c) => {
          const [value, name] = typeof c === "string" ? [c, c] : c;
          return (
            <option key={value} value={value}>
              {name}
            </option>
          );
        })}
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
