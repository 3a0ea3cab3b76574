/** Sets, lists and removes secrets of the store. Values are never shown. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Input, Label } from "react-aria-components";

import * as client from "../../api/client";
import { secretsQuery } from "../../api/queries";
import { FormRow, LabelledText, TextInput } from "../../ui/fields";
import { Button, Failure, Heading, Panel, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { SureButton } from "../../ui/SureButton";

export function Secrets() {
  const queries = useQueryClient();
  const { data, error, refetch } = useQuery(secretsQuery);
  const changed = (): Promise<void> => queries.invalidateQueries({ queryKey: ["secrets"] });
  const remove = useMutation({ mutationFn: client.removeSecret, onSuccess: changed });
  if (!data) return <Waiting error={error} retry={refetch} />;
  return (
    <>
      {data.length === 0 ? (
        <p>
          No secret is set. A source refers to a secret as <code>{'{ kept = "NAME" }'}</code>, so its definition
          contains no password.
        </p>
      ) : (
        <TableFrame aria-label="Secrets">
          <PlainTable aria-label="Secrets">
            <thead>
              <tr>
                <th>secret</th>
                <th>set</th>
                <th>used by</th>
                <th>actions</th>
              </tr>
            </thead>
            <tbody>
              {data.map((secret) => (
                <tr key={secret.name}>
                  <td>{secret.name}</td>
                  <td>{secret.set_at.slice(0, 16).replace("T", " ")}</td>
                  <td>{secret.used_by.join(", ")}</td>
                  <td>
                    <SureButton isLow sure={`Really remove ${secret.name}`} onSure={() => remove.mutate(secret.name)}>
                      Remove
                    </SureButton>
                  </td>
                </tr>
              ))}
            </tbody>
          </PlainTable>
        </TableFrame>
      )}
      {remove.error && <Failure error={remove.error} />}
      <SetSecret changed={changed} />
    </>
  );
}

function SetSecret({ changed }: { changed: () => Promise<void> }) {
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const set = useMutation({
    mutationFn: () => client.putSecret(name, value),
    onSuccess: () => {
      setValue("");
      return changed();
    },
  });
  return (
    <Panel aria-label="Set a secret" style={{ marginTop: 16 }}>
      <Heading>Set a secret, or replace one</Heading>
      <FormRow>
        <TextInput label="name" value={name} onChange={setName} placeholder="broker" />
        <LabelledText value={value} onChange={setValue} type="password" autoComplete="off">
          <Label>secret</Label>
          <Input />
        </LabelledText>
        <Button isDisabled={name === "" || value === "" || set.isPending} onPress={() => set.mutate()}>
          Set
        </Button>
      </FormRow>
      {set.error && <Failure error={set.error} />}
      {set.data && !set.error && <p role="status">{set.data.created ? "It is set." : "It is replaced."}</p>}
    </Panel>
  );
}
