/** Names that a thing had and that still answer, each to be let go. */
import { useMutation, useQueryClient } from "@tanstack/react-query";

import * as client from "../../api/client";
import { Allowed } from "../../ui/Allowed";
import { Button, Failure } from "../../ui/parts";
import { Row } from "./layout";

export function OldNames({ noun, dataset, names }: { noun: "metric" | "tag"; dataset: string; names: string[] }) {
  const queries = useQueryClient();
  const forget = useMutation({
    mutationFn: (name: string) => client.forgetName(noun, dataset, name),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <>
      {names.map((name) => (
        <Row key={name} style={{ alignItems: "center" }}>
          {name}, which still answers
          <Allowed to="define" dataset={dataset}>
            <Button
              $quiet
              isDisabled={forget.isPending}
              onPress={() => forget.mutate(name)}
              aria-label={`Forget ${name}`}
            >
              Forget
            </Button>
          </Allowed>
        </Row>
      ))}
      {forget.error && <Failure error={forget.error} />}
    </>
  );
}
