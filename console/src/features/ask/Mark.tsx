/** The colour of a line, beside its name. */
import styled from "styled-components";

export const Mark = styled.span<{ $colour: string }>`
  display: inline-block;
  width: 14px;
  height: 3px;
  margin-right: 6px;
  vertical-align: middle;
  background: ${({ $colour }) => $colour};
`;
