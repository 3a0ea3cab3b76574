/** Defines a source by fields or as text, tries it, and stores it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Label, TextArea, TextField } from "react-aria-components";
import styled from "styled-components";

import * as client from "../../api/client";
import { sourceExamplesQuery } from "../../api/queries";
import type { DefinedFlow } from "../../api/types";
import { count } from "../../format/numbers";
import { FormRow, Pick, TextInput } from "../../ui/fields";
import { Button, Faint, Failure, Heading, Panel } from "../../ui/parts";
import { type Draft, put, read, write } from "./definition";
import { resultOf, titleOf } from "./SourceDetails";
import { SourceFields } from "./SourceFields";
import { fieldsOf } from "./sourceFields";

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

/** A definition whose points go to a dataset. */
const into = (definition: string, dataset: string): string =>
  definition.replace(/^dataset = .*$/m, `dataset = "${dataset}"`);

const example = (dataset: string): string => `kind = "poll"
dataset = "${dataset}"
every = "10s"
targets = [
  { url = "http://127.0.0.1:9100/metrics" },
]
`;

function done(difference: DefinedFlow["difference"]): string {
  switch (difference) {
    case "new":
      return "Added and started.";
    case "changed":
      return "Changed, and started again.";
    case "none":
      return "The same already: nothing was changed.";
  }
}

/** An example to start from. */
export const firstDraft = (dataset: string): Draft => ({ name: "", text: example(dataset) });

interface Props {
  draft: Draft;
  change: (draft: Draft) => void;
  dataset: string;
}

export function SourceForm({ draft, change, dataset }: Props) {
  const queries = useQueryClient();
  const [isText, setText] = useState(false);
  const { name, text } = draft;
  const attempt = useMutation({ mutationFn: () => client.trySource(text) });
  const add = useMutation({
    mutationFn: () => client.putSource(name, text),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sources"] }),
  });
  const { data: examples = [] } = useQuery(sourceExamplesQuery);
  const failure = add.error ?? attempt.error;
  const definition = read(text);
  const kind = definition?.kind;
  const fields = fieldsOf(kind);
  const areFields = !isText && definition !== undefined && fields.length > 0;
  const start = (kind: string): void => {
    const found = examples.find((example) => example.kind === kind);
    if (found) change({ ...draft, text: into(found.definition, dataset) });
  };
  return (
    <Panel aria-label="Add a source" style={{ marginTop: 16 }}>
      <Heading>Add a source, or change one</Heading>
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
        <SourceFields fields={fields} value={definition} change={(next) => change({ ...draft, text: write(next) })} />
      ) : (
        <Text value={text} onChange={(text) => change({ ...draft, text })}>
          <Label>Definition (TOML or JSON)</Label>
          <TextArea spellCheck={false} />
        </Text>
      )}
      <FormRow>
        <Button $quiet isDisabled={attempt.isPending} onPress={() => attempt.mutate()}>
          {attempt.isPending ? "Trying …" : "Try one round"}
        </Button>
        <Button isDisabled={name === "" || add.isPending} onPress={() => add.mutate()}>
          Store and start
        </Button>
      </FormRow>
      {failure && <Failure error={failure} />}
      {add.data && !add.error && <p role="status">{done(add.data.difference)}</p>}
      {attempt.data && !attempt.error && (
        <div role="status" style={{ marginTop: 8 }}>
          <p>
            {count(attempt.data.points)} points would be stored, {count(attempt.data.rejected)} rejected; nothing was
            stored.
          </p>
          {attempt.data.parts.map((part) => (
            <p key={part.name}>
              {titleOf(part)}: {resultOf(part)}
            </p>
          ))}
          {attempt.data.sample.slice(0, 10).map((point, at) => (
            <p key={at}>
              <code>
                {point.metric} {Object.entries(point.tags).map(([key, value]) => `${key}=${value} `)}
                {String(point.value)}
              </code>
            </p>
          ))}
        </div>
      )}
    </Panel>
  );
}
