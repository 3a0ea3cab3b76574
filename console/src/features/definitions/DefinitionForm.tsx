/** Defines a source or a sink by fields or as text, tries it, and stores it. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Label, TextArea, TextField } from "react-aria-components";
import styled from "styled-components";

import type { DefinedFlow, FlowExample } from "../../api/types";
import { FormRow, Pick, TextInput } from "../../ui/fields";
import { Button, Faint, Failure, Heading, Panel } from "../../ui/parts";
import { type Draft, put, read, write } from "./definition";
import { DefinitionFields } from "./DefinitionFields";
import type { Field } from "./field";

const Text = styled(TextField)`
  display: grid;
  gap: 2px;
  margin-top: 8px;
  label {
    color: ${({ theme }) => theme.faint};
  }
  textarea {
    font:
      13px/18px ui-monospace,
      "DejaVu Sans Mono",
      monospace;
    min-height: 180px;
    padding: 8px;
    color: inherit;
    background: ${({ theme }) => theme.sheet};
    border: 1px solid ${({ theme }) => theme.faint};
    border-radius: 2px;
  }
`;

/** A definition of another dataset. */
const of = (definition: string, dataset: string): string =>
  definition.replace(/^dataset = .*$/m, `dataset = "${dataset}"`);

interface Props<Trial> {
  /** What is defined. */
  noun: "source" | "sink";
  draft: Draft;
  change: (draft: Draft) => void;
  dataset: string;
  examples: readonly FlowExample[];
  /** The fields of a kind; none if it is unknown. */
  fieldsOf: (kind: unknown) => readonly Field[];
  /** Label of the button that tries a definition. */
  trying: string;
  attempt: (text: string) => Promise<Trial>;
  /** What a trial has shown. */
  show: (trial: Trial) => ReactNode;
  store: (name: string, text: string) => Promise<DefinedFlow>;
  /** What has become of it, in a sentence. */
  done: (difference: DefinedFlow["difference"]) => string;
}

export function DefinitionForm<Trial>({
  noun,
  draft,
  change,
  dataset,
  examples,
  fieldsOf,
  trying,
  attempt: tryOut,
  show,
  store,
  done,
}: Props<Trial>) {
  const queries = useQueryClient();
  const [isText, setText] = useState(false);
  const { name, text } = draft;
  const attempt = useMutation({ mutationFn: () => tryOut(text) });
  const add = useMutation({
    mutationFn: () => store(name, text),
    onSuccess: () => queries.invalidateQueries({ queryKey: [`${noun}s`] }),
  });
  const failure = add.error ?? attempt.error;
  const definition = read(text);
  const kind = definition?.kind;
  const fields = fieldsOf(kind);
  const areFields = !isText && definition !== undefined && fields.length > 0;
  const start = (kind: string): void => {
    const found = examples.find((example) => example.kind === kind);
    if (found) change({ ...draft, text: of(found.definition, dataset) });
  };
  return (
    <Panel aria-label={`Add a ${noun}`} style={{ marginTop: 16 }}>
      <Heading>Add a {noun}, or change one</Heading>
      <FormRow>
        <TextInput label="name" value={name} onChange={(name) => change({ ...draft, name })} placeholder="control" />
        <Pick
          label="kind"
          value={typeof kind === "string" ? kind : ""}
          choices={examples.map((example) => example.kind)}
          onChange={start}
        />
        {areFields && (
          <TextInput
            label="dataset"
            value={String(definition.dataset ?? "main")}
            onChange={(dataset) => change({ ...draft, text: write(put(definition, ["dataset"], dataset)) })}
          />
        )}
        <Button $quiet isDisabled={isText && definition === undefined} onPress={() => setText(!isText)}>
          {isText ? "Edit in fields" : "Edit as text"}
        </Button>
        <Faint>Selecting a kind replaces the fields below with an example.</Faint>
      </FormRow>
      {areFields ? (
        <DefinitionFields
          fields={fields}
          value={definition}
          change={(next) => change({ ...draft, text: write(next) })}
        />
      ) : (
        <Text value={text} onChange={(text) => change({ ...draft, text })}>
          <Label>Definition (TOML or JSON)</Label>
          <TextArea spellCheck={false} />
        </Text>
      )}
      <FormRow>
        <Button $quiet isDisabled={attempt.isPending} onPress={() => attempt.mutate()}>
          {attempt.isPending ? "Trying …" : trying}
        </Button>
        <Button isDisabled={name === "" || add.isPending} onPress={() => add.mutate()}>
          Store and start
        </Button>
      </FormRow>
      {failure && <Failure error={failure} />}
      {add.data && !add.error && <p role="status">{done(add.data.difference)}</p>}
      {attempt.data !== undefined && !attempt.error && (
        <div role="status" style={{ marginTop: 8 }}>
          {show(attempt.data)}
        </div>
      )}
    </Panel>
  );
}
