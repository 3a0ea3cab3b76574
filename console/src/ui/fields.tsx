/** Fields of forms: a text with its label, and a choice of few. */
import { Button, Checkbox, Input, Label, ListBox, Select, SelectValue, TextField } from "react-aria-components";
import styled, { css } from "styled-components";

import { Menu, MenuItem } from "./Chooser";

const box = css`
  font: inherit;
  height: 28px;
  padding: 3px 8px;
  color: inherit;
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.faint};
  border-radius: 2px;
`;

/** A text field with a label above it. */
export const LabelledText = styled(TextField)`
  display: grid;
  gap: 2px;
  label {
    color: ${({ theme }) => theme.faint};
  }
  input {
    ${box}
    width: 100%;
  }
`;

/** Fields and buttons of a small form, side by side. */
export const FormRow = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: end;
  margin-top: 8px;
`;

interface TextProps {
  label: string;
  value: string;
  onChange: (value: string) => void;
  placeholder?: string;
  hidden?: boolean;
  /** In pixels. */
  width?: number | undefined;
}

/** A text with its label above it; with `hidden`, the label is there for screen readers only. */
export function TextInput({ label, value, onChange, placeholder, hidden, width }: TextProps) {
  return (
    <LabelledText
      value={value}
      onChange={onChange}
      {...(hidden ? { "aria-label": label } : {})}
      {...(width === undefined ? {} : { style: { width } })}
    >
      {!hidden && <Label>{label}</Label>}
      <Input placeholder={placeholder ?? ""} spellCheck={false} />
    </LabelledText>
  );
}

const Choice = styled(Select)`
  display: grid;
  gap: 2px;
  .react-aria-Label {
    color: ${({ theme }) => theme.faint};
  }
` as typeof Select;

const Picker = styled(Button)`
  ${box}
  display: flex;
  justify-content: space-between;
  gap: 8px;
  cursor: pointer;
`;

interface PickProps<T extends string> {
  label: string;
  value: T;
  choices: readonly T[];
  onChange: (value: T) => void;
  hidden?: boolean;
}

/** One of a few. */
export function Pick<T extends string>({ label, value, choices, onChange, hidden }: PickProps<T>) {
  return (
    <Choice
      selectedKey={value}
      onSelectionChange={(key) => key !== null && onChange(String(key) as T)}
      {...(hidden ? { "aria-label": label } : {})}
    >
      {!hidden && <Label>{label}</Label>}
      <Picker>
        <SelectValue /> <span aria-hidden>▾</span>
      </Picker>
      <Menu>
        <ListBox items={choices.map((choice) => ({ id: choice }))}>
          {(choice) => <MenuItem>{choice.id}</MenuItem>}
        </ListBox>
      </Menu>
    </Choice>
  );
}

const Tick = styled(Checkbox)`
  display: flex;
  gap: 8px;
  align-items: center;
  cursor: pointer;
  .box {
    width: 16px;
    height: 16px;
    line-height: 14px;
    text-align: center;
    border: 1px solid ${({ theme }) => theme.faint};
    border-radius: 2px;
    background: ${({ theme }) => theme.sheet};
  }
  &[data-focus-visible] .box {
    outline: 2px solid ${({ theme }) => theme.water};
  }
`;

/** Yes or no. */
export function Check({
  label,
  isSelected,
  onChange,
}: {
  label: string;
  isSelected: boolean;
  onChange: (is: boolean) => void;
}) {
  return (
    <Tick isSelected={isSelected} onChange={onChange}>
      {({ isSelected: ticked }) => (
        <>
          <span className="box" aria-hidden>
            {ticked ? "✓" : ""}
          </span>
          {label}
        </>
      )}
    </Tick>
  );
}
