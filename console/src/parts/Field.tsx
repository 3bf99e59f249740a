import { Input, Label, TextField } from "react-aria-components";
import styled from "styled-components";

import { inputLook } from "./look";

const StyledInput = styled(Input)`
  ${inputLook}
`;

const StyledLabel = styled(Label)`
  font-size: var(--size-s);
  color: var(--ink-soft);
`;

const StyledField = styled(TextField)`
  display: grid;
  gap: 2px;
  min-width: 0;
`;

export function Field(props: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  type?: string;
  required?: boolean;
  autoFocus?: boolean;
  autoComplete?: string;
}) {
  return (
    <StyledField
      value={props.value}
      onChange={props.onChange}
      type={props.type ?? "text"}
      isRequired={props.required}
      autoFocus={props.autoFocus}
      autoComplete={props.autoComplete}
    >
      <StyledLabel>{props.label}</StyledLabel>
      <StyledInput />
    </StyledField>
  );
}
