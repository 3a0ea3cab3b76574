/** A form for a new token. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import type { Action } from "../../api/caller";
import * as client from "../../api/client";
import { datasetsQuery } from "../../api/queries";
import type { CreatedToken } from "../../api/types";
import { FormRow, Pick, TextInput } from "../../ui/fields";
import { Button, Faint, Failure, Heading, Panel } from "../../ui/parts";

const ACTIONS = ["read", "write", "define", "admin"] as const satisfies readonly Action[];
const ALL = "all datasets";

const MEANING: Record<Action, string> = {
  read: "Ask, look, and watch points arrive.",
  write: "Push points and import files; read nothing.",
  define: "Read and write; change definitions, limits and rollups; delete.",
  admin: "Everything, tokens and backups too.",
};

export function CreateToken({ made }: { made: (created: CreatedToken) => void }) {
  const queries = useQueryClient();
  const { data: datasets = [] } = useQuery(datasetsQuery);
  const [name, setName] = useState("");
  const [action, setAction] = useState<Action>("read");
  const [scope, setScope] = useState(ALL);
  const [expires, setExpires] = useState("90d");
  const [metrics, setMetrics] = useState("");
  const [networks, setNetworks] = useState("");
  const create = useMutation({
    mutationFn: () =>
      client.createToken({
        name,
        grants: [scope === ALL ? action : `${action}:${scope}`],
        metrics: words(metrics),
        networks: words(networks),
        ...(expires.trim() === "" ? {} : { expires: expires.trim() }),
      }),
    onSuccess: (created) => {
      made(created);
      setName("");
      return queries.invalidateQueries();
    },
  });
  return (
    <Panel aria-label="Create a token">
      <Heading>Create a token</Heading>
      <FormRow>
        <TextInput label="name" value={name} onChange={setName} placeholder="gateway" />
        <Pick label="may" value={action} choices={ACTIONS} onChange={setAction} />
        <Pick label="on" value={scope} choices={[ALL, ...datasets.map((one) => one.name)]} onChange={setScope} />
        <TextInput label="expires" value={expires} onChange={setExpires} placeholder="90d, empty: never" />
        <TextInput label="only metrics" value={metrics} onChange={setMetrics} placeholder="all, or flow_*" />
        <TextInput label="only from" value={networks} onChange={setNetworks} placeholder="anywhere, or 192.0.2.0/24" />
        <Button isDisabled={name === "" || create.isPending} onPress={() => create.mutate()}>
          Create
        </Button>
      </FormRow>
      <p style={{ marginTop: 8 }}>
        <Faint>{MEANING[action]}</Faint>
      </p>
      {create.error && <Failure error={create.error} />}
    </Panel>
  );
}

const words = (text: string): string[] => text.split(/[\s,]+/).filter((word) => word !== "");
