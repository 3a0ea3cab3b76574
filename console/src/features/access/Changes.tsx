/** The record of changes, the latest first. */
import { useInfiniteQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";

import { changesQuery } from "../../api/queries";
import type { ChangeInfo } from "../../api/types";
import { FormRow, Pick, TextInput } from "../../ui/fields";
import { Button, Panel, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { difference } from "./difference";

const ANY = "anything";
const KINDS = [
  ANY,
  "dataset",
  "metric",
  "tag",
  "retention",
  "rollup",
  "mapping",
  "points",
  "bin",
  "import",
  "storage",
  "backup",
  "configuration",
  "token",
  "session",
  "call",
] as const;

export function Changes() {
  const [what, setWhat] = useState<(typeof KINDS)[number]>(ANY);
  const [who, setWho] = useState("");
  const filter = useDeferredValue(who.trim());
  const { data, error, refetch, hasNextPage, fetchNextPage } = useInfiniteQuery(
    changesQuery(what === ANY ? "" : what, filter),
  );
  if (!data) return <Waiting error={error} retry={refetch} />;
  const changes = data.pages.flatMap((page) => page.items);
  return (
    <Panel aria-label="Changes">
      <FormRow style={{ marginBottom: 8 }}>
        <Pick label="of" value={what} choices={KINDS} onChange={setWhat} />
        <TextInput label="by" value={who} onChange={setWho} placeholder="anybody, or a token’s name" />
      </FormRow>
      {changes.length === 0 ? (
        <p>No such change is recorded.</p>
      ) : (
        <TableFrame aria-label="Changes" $height={560}>
          <PlainTable aria-label="Changes">
            <thead>
              <tr>
                <th>time (UTC)</th>
                <th>who</th>
                <th>from</th>
                <th>what</th>
                <th>object</th>
                <th>change</th>
              </tr>
            </thead>
            <tbody>
              {changes.map((change) => (
                <tr key={change.number}>
                  <td title={change.time}>{change.time.slice(0, 19).replace("T", " ")}</td>
                  <td>{change.who}</td>
                  <td>{change.address ?? "–"}</td>
                  <td>{`${change.subject} ${change.act}`}</td>
                  <td style={{ whiteSpace: "normal" }}>{named(change)}</td>
                  <td style={{ whiteSpace: "normal", overflowWrap: "anywhere" }}>
                    {difference(change.before, change.after)}
                  </td>
                </tr>
              ))}
            </tbody>
          </PlainTable>
        </TableFrame>
      )}
      {hasNextPage && (
        <p style={{ marginTop: 8 }}>
          <Button $quiet onPress={() => void fetchNextPage()}>
            Earlier changes
          </Button>
        </p>
      )}
    </Panel>
  );
}

/** The name of the changed object, within its dataset. */
const named = ({ dataset, object }: ChangeInfo): string =>
  dataset === null || dataset === object || object.startsWith(`${dataset}::`) ? object : `${dataset}::${object}`;
