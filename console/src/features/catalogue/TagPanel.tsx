/** Everything about one tag: definition, its values, and its name. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import * as client from "../../api/client";
import type { TagDefinition, TagInfo } from "../../api/types";
import { count } from "../../format/numbers";
import { Allowed } from "../../ui/Allowed";
import { Check, TextInput } from "../../ui/fields";
import { Button, Faint, Failure, Heading } from "../../ui/parts";
import { Pairs, Row, Stack, Two } from "./layout";
import { OldNames } from "./OldNames";
import { tagDefinitionOf, tagFormOf } from "./tagDefinition";

/** Values that are listed at once. */
const MOST_VALUES = 200;

interface Props {
  dataset: string;
  tag: TagInfo;
  close: () => void;
  renamed: (key: string) => void;
}

export function TagPanel({ dataset, tag, close, renamed }: Props) {
  const queries = useQueryClient();
  const [form, setForm] = useState(() => tagFormOf(tag.definition ?? undefined));
  const [key, setKey] = useState(tag.key);
  const fresh = () => queries.invalidateQueries();
  const save = useMutation({
    mutationFn: (definition: TagDefinition) => client.putTag(dataset, tag.key, definition),
    onSuccess: fresh,
  });
  const rename = useMutation({
    mutationFn: () => client.renameTag(dataset, tag.key, key),
    onSuccess: async () => {
      await fresh();
      renamed(key);
    },
  });
  const change = (changed: Partial<typeof form>) => setForm({ ...form, ...changed });
  const failure = save.error ?? rename.error;
  return (
    <Stack aria-label={`The tag ${tag.key}`}>
      <Row style={{ justifyContent: "space-between", alignItems: "center" }}>
        <Heading>{tag.key}</Heading>
        <Button $quiet onPress={close} aria-label="Close">
          ×
        </Button>
      </Row>
      <Pairs>
        <dt>values</dt>
        <dd>
          {count(tag.values.length)}
          {tag.values.length > 0 && ": "}
          {tag.values
            .slice(0, MOST_VALUES)
            .map(({ value, series }) => `${value} (${count(series)})`)
            .join(", ")}
          {tag.values.length > MOST_VALUES && ` and ${count(tag.values.length - MOST_VALUES)} more`}
        </dd>
        {tag.old_keys.length > 0 && (
          <>
            <dt>was called</dt>
            <dd>
              <OldNames noun="tag" dataset={dataset} names={tag.old_keys} />
            </dd>
          </>
        )}
      </Pairs>
      <Allowed to="define" dataset={dataset} otherwise="change definitions">
        {failure && <Failure error={failure} />}
        <TextInput label="Description" value={form.description} onChange={(description) => change({ description })} />
        <Check
          label="Every new series must carry it"
          isSelected={form.required}
          onChange={(required) => change({ required })}
        />
        <TextInput
          label="Allowed values, with commas between them"
          value={form.allowed}
          onChange={(allowed) => change({ allowed })}
          placeholder="any"
        />
        <Two>
          <TextInput
            label="Pattern of a whole value"
            value={form.pattern}
            onChange={(pattern) => change({ pattern })}
            placeholder="[a-z]+"
          />
          <TextInput
            label="Most distinct values"
            value={form.mostValues}
            onChange={(mostValues) => change({ mostValues })}
            placeholder="any number"
          />
        </Two>
        <Row>
          <Button isDisabled={save.isPending} onPress={() => save.mutate(tagDefinitionOf(form))}>
            Save
          </Button>
          {save.isSuccess && <Faint role="status">saved</Faint>}
        </Row>
        <Row>
          <TextInput label="Key" value={key} onChange={setKey} />
          <Button $quiet isDisabled={key === tag.key || key === "" || rename.isPending} onPress={() => rename.mutate()}>
            Rename
          </Button>
        </Row>
      </Allowed>
    </Stack>
  );
}
