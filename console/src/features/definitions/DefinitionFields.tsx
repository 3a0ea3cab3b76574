/** The form fields of a definition. Each field edits one value. */
import { useState } from "react";
import { Input, Label, TextArea, TextField } from "react-aria-components";
import styled from "styled-components";

import { FormRow, LabelledText, Pick, TextInput } from "../../ui/fields";
import { Button, Faint } from "../../ui/parts";
import { at, isTable, numberOf, put, type Table, tagsOf, tagText } from "./definition";
import type { Field } from "./field";

const Lines = styled(TextField)`
  display: grid;
  gap: 2px;
  flex-basis: 100%;
  label {
    color: ${({ theme }) => theme.faint};
  }
  textarea {
    font: inherit;
    max-width: 480px;
    padding: 3px 8px;
    color: inherit;
    background: ${({ theme }) => theme.sheet};
    border: 1px solid ${({ theme }) => theme.faint};
    border-radius: 2px;
  }
`;

const Group = styled.fieldset`
  border: 0;
  margin: 0;
  padding: 0;
  flex-basis: 100%;
  min-width: 0;
  legend {
    color: ${({ theme }) => theme.faint};
    padding: 0;
  }
  td,
  th {
    padding: 2px 8px 2px 0;
    text-align: left;
    font-weight: 400;
    color: ${({ theme }) => theme.faint};
  }
`;

const Scrolled = styled.div`
  overflow-x: auto;
`;

/** Widths of fields, in pixels. */
const WIDE = 320;
const MIDDLE = 160;
const NARROW = 80;

interface Props {
  fields: readonly Field[];
  value: Table;
  change: (value: Table) => void;
}

export function DefinitionFields({ fields, value, change }: Props) {
  const key = (field: Field): string => field.path.join(".");
  const isWide = (field: Field): boolean => field.form === "rows" || field.form === "texts";
  const show = (field: Field) => <One key={key(field)} field={field} value={value} change={change} />;
  return (
    <>
      <FormRow>{fields.filter((field) => !isWide(field)).map(show)}</FormRow>
      {fields.filter(isWide).map((field) => (
        <FormRow key={key(field)}>{show(field)}</FormRow>
      ))}
    </>
  );
}

interface OneProps {
  field: Field;
  value: Table;
  change: (value: Table) => void;
  /** Index of the row, if the field is in a table. Its column has a heading, so the label is for screen readers only. */
  row?: number;
}

function One({ field, value, change, row }: OneProps) {
  const own = at(value, field.path);
  const set = (next: unknown): void => change(put(value, field.path, next));
  const isInRow = row !== undefined;
  const label = isInRow ? `${field.label} ${row + 1}` : field.label;
  switch (field.form) {
    case "text":
      return (
        <TextInput
          label={label}
          value={own === undefined ? "" : String(own)}
          onChange={set}
          placeholder={field.example ?? ""}
          hidden={isInRow}
          width={field.isWide ? WIDE : isInRow && field.form === "text" ? MIDDLE : undefined}
        />
      );
    case "number":
      return (
        <Loose
          label={label}
          text={own === undefined ? "" : String(own)}
          onText={(text) => set(text === "" ? undefined : numberOf(text))}
          hidden={isInRow}
          width={NARROW}
        />
      );
    case "tags":
      return (
        <Loose
          label={label}
          text={tagText(own)}
          placeholder={field.example ?? ""}
          onText={(text) => {
            const tags = tagsOf(text);
            if (tags) set(tags);
          }}
          hidden={isInRow}
        />
      );
    case "texts":
      return (
        <Lines
          value={Array.isArray(own) ? own.join("\n") : ""}
          onChange={(text) => set(text === "" ? undefined : text.split("\n"))}
        >
          <Label>{label}</Label>
          <TextArea rows={3} placeholder={field.example ?? ""} spellCheck={false} />
        </Lines>
      );
    case "choice": {
      const [first = "", ...others] = field.choices;
      return (
        <Pick
          label={label}
          value={typeof own === "string" ? own : first}
          choices={[first, ...others]}
          onChange={(choice) => set(choice === first ? undefined : choice)}
          hidden={isInRow}
        />
      );
    }
    case "secret":
      return <Secret label={label} value={own} set={set} />;
    case "rows":
      return <Rows field={field} rows={Array.isArray(own) ? own.filter(isTable) : []} set={set} />;
  }
}

/** A field whose text may be incomplete while it is edited. The text is kept until the field loses focus. */
function Loose({
  label,
  text,
  onText,
  placeholder,
  hidden,
  width,
}: {
  label: string;
  text: string;
  onText: (text: string) => void;
  placeholder?: string;
  hidden: boolean;
  width?: number;
}) {
  const [typed, setTyped] = useState<string | null>(null);
  return (
    <LabelledText
      value={typed ?? text}
      onChange={(next) => {
        setTyped(next);
        onText(next);
      }}
      onBlur={() => setTyped(null)}
      {...(hidden ? { "aria-label": label } : {})}
      {...(width === undefined ? {} : { style: { width } })}
    >
      {!hidden && <Label>{label}</Label>}
      <Input placeholder={placeholder ?? ""} spellCheck={false} />
    </LabelledText>
  );
}

const PLACES = ["none", "kept", "file", "env"] as const;
const PLACE_EXAMPLES = { none: "", kept: "broker", file: "/etc/fenetre/password", env: "BROKER_PASSWORD" } as const;

/** The place of a secret. A definition never contains the secret itself. */
function Secret({ label, value, set }: { label: string; value: unknown; set: (value: unknown) => void }) {
  const known = isTable(value) ? PLACES.find((place) => place in value) : undefined;
  const place = known ?? "none";
  const name = isTable(value) && known ? String(value[known]) : "";
  return (
    <>
      <Pick
        label={`${label}: place`}
        value={place}
        choices={PLACES}
        onChange={(next) => set(next === "none" ? undefined : { [next]: name === "" ? PLACE_EXAMPLES[next] : name })}
      />
      {place !== "none" && (
        <TextInput label={`${label}: name`} value={name} onChange={(next) => set({ [place]: next })} />
      )}
    </>
  );
}

function Rows({
  field,
  rows,
  set,
}: {
  field: Extract<Field, { form: "rows" }>;
  rows: readonly Table[];
  set: (rows: readonly Table[] | undefined) => void;
}) {
  const without = (at: number): readonly Table[] | undefined => {
    const rest = rows.filter((_, other) => other !== at);
    return rest.length > 0 ? rest : undefined;
  };
  return (
    <Group>
      <legend>{field.label}</legend>
      {rows.length > 0 && (
        <Scrolled>
          <table>
            <thead>
              <tr>
                {field.columns.map((column) => (
                  <th key={column.path.join(".")}>{column.label}</th>
                ))}
                <th>
                  <Faint>actions</Faint>
                </th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row, at) => (
                // Rows have no names, so the index is the key.
                <tr key={at}>
                  {field.columns.map((column) => (
                    <td key={column.path.join(".")}>
                      <One
                        field={column}
                        value={row}
                        row={at}
                        change={(next) => set(rows.map((other, place) => (place === at ? next : other)))}
                      />
                    </td>
                  ))}
                  <td>
                    <Button
                      $quiet
                      $low
                      aria-label={`Remove from ${field.label}: ${at + 1}`}
                      onPress={() => set(without(at))}
                    >
                      Remove
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scrolled>
      )}
      <Button $quiet $low style={{ marginTop: 4 }} onPress={() => set([...rows, {}])}>
        Add to {field.label}
      </Button>
    </Group>
  );
}
