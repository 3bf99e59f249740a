import styled from "styled-components";

import { inputLook } from "./look";

export const Area = styled.textarea`
  ${inputLook}
  font-family: var(--code);
  font-size: var(--size-s);
  resize: vertical;
`;
