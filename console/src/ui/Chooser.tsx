/** A field with suggestions that takes any text: what is typed counts when it is entered or left. */
import { useState } from "react";
import { Button, ComboBox, Input, Label, ListBox, ListBoxItem, Popover } from "react-aria-components";
import styled from "styled-components";

const Field = styled(ComboBox)<{ $width: number }>`
  display: flex;
  align-items: center;
  gap: 6px;
  label {
    color: ${({ theme }) => theme.faint};
  }
  div {
    display: flex;
  }
  input {
    font: inherit;
    width: ${({ $width }) => $width}px;
    height: 28px;
    padding: 3px 8px;
    color: inherit;
    background: ${({ theme }) => theme.sheet};
    border: 1px solid ${({ theme }) => theme.faint};
    border-right: 0;
    border-radius: 2px 0 0 2px;
  }
  button {
    width: 28px;
    height: 28px;
    color: inherit;
    background: ${({ theme }) => theme.sheet};
    border: 1px solid ${({ theme }) => theme.faint};
    border-radius: 0 2px 2px 0;
    cursor: pointer;
  }
`;

export const Menu = styled(Popover)`
  background: ${({ theme }) => theme.sheet};
  color: ${({ theme }) => theme.ink};
  border: 1px solid ${({ theme }) => theme.ink};
  border-radius: 2px;
  max-height: 320px;
  overflow: auto;
`;

export const MenuItem = styled(ListBoxItem)`
  padding: 4px 12px;
  cursor: pointer;
  &[data-focused],
  &[data-hovered] {
    background: ${({ theme }) => theme.shallow};
  }
  &[data-selected] {
    font-weight: 600;
  }
`;

interface Props {
  label: string;
  value: string;
  choices: readonly string[];
  placeholder?: string;
  widthPx: number;
  /** Whether the label is there for screen readers only. */
  hidden?: boolean;
  onChange: (value: string) => void;
}

export function Chooser({ label, value, choices, placeholder, widthPx, hidden, onChange }: Props) {
  // What is being typed belongs to the value that it began with: a new value from elsewhere takes its place.
  const [typed, setTyped] = useState({ of: value, text: value });
  const text = typed.of === value ? typed.text : value;
  const setText = (changed: string) => setTyped({ of: value, text: changed });
  const settle = (settled: string) => {
    setText(settled);
    if (settled !== value) onChange(settled);
  };
  return (
    <Field
      $width={widthPx}
      {...(hidden ? { "aria-label": label } : {})}
      allowsCustomValue
      menuTrigger="manual"
      inputValue={text}
      onInputChange={setText}
      onSelectionChange={(key) => key !== null && settle(String(key))}
      onBlur={() => settle(text)}
      onKeyDown={(event) => event.key === "Enter" && settle(text)}
    >
      {!hidden && <Label>{label}</Label>}
      <div>
        <Input placeholder={placeholder ?? ""} spellCheck={false} />
        <Button aria-label={`Suggestions for ${label}`}>▾</Button>
      </div>
      <Menu>
        <ListBox items={choices.map((choice) => ({ id: choice }))}>
          {(choice) => <MenuItem textValue={choice.id}>{choice.id}</MenuItem>}
        </ListBox>
      </Menu>
    </Field>
  );
}
