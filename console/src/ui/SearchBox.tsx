/** A field that filters a list, with the number of matches beside it. */
import { Input, Label, SearchField } from "react-aria-components";
import styled from "styled-components";

import { Faint } from "./parts";

const Field = styled(SearchField)`
  display: flex;
  gap: 8px;
  align-items: center;
  margin-bottom: 12px;
  input {
    font: inherit;
    width: 280px;
    height: 28px;
    padding: 3px 8px;
    color: inherit;
    background: ${({ theme }) => theme.sheet};
    border: 1px solid ${({ theme }) => theme.faint};
    border-radius: 2px;
  }
`;

interface Props {
  value: string;
  onChange: (value: string) => void;
  placeholder: string;
  status: string;
}

export function SearchBox({ value, onChange, placeholder, status }: Props) {
  return (
    <Field value={value} onChange={onChange}>
      <Label>Search</Label>
      <Input placeholder={placeholder} spellCheck={false} />
      <Faint role="status">{status}</Faint>
    </Field>
  );
}
