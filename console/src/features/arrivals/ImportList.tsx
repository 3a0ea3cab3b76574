/** Imports so far, the latest first. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { useMay } from "../../api/caller";
import * as client from "../../api/client";
import { importsQuery } from "../../api/queries";
import type { ImportRecord } from "../../api/types";
import { bytes, count } from "../../format/numbers";
import { ago } from "../../format/times";
import { Button, Failure, Heading, Panel, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { ImportResult } from "./ImportResult";

export function ImportList() {
  const { data, error, refetch, dataUpdatedAt } = useQuery(importsQuery);
  const [shown, setShown] = useState<string | null>(null);
  if (!data) return <Waiting error={error} retry={refetch} />;
  if (data.length === 0) return <p>No file was imported yet.</p>;
  const open = data.find((record) => record.id === shown);
  return (
    <>
      <TableFrame $height={480} aria-label="Imports">
        <PlainTable aria-label="Imports">
          <thead>
            <tr>
              <th>file</th>
              <th>dataset</th>
              <th>sent</th>
              <th className="figure">size</th>
              <th>stage</th>
              <th className="figure">points</th>
              <th className="figure">rejected</th>
              <th>actions</th>
            </tr>
          </thead>
          <tbody>
            {data.map((record) => (
              <tr key={record.id}>
                <td>
                  <Button $quiet onPress={() => setShown(record.id === shown ? null : record.id)}>
                    {record.file}
                  </Button>
                </td>
                <td>{record.dataset}</td>
                <td title={record.uploaded}>{ago(record.uploaded, dataUpdatedAt)}</td>
                <td className="figure">{bytes(record.bytes)}</td>
                <td>
                  {record.stage === "running"
                    ? `running, ${Math.floor((record.read_bytes * 100) / Math.max(1, record.bytes))} %`
                    : record.stage}
                </td>
                <td className="figure">{count(record.accepted)}</td>
                <td className="figure">{count(record.rejected)}</td>
                <td>
                  <Actions record={record} />
                </td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
      {open && (
        <Panel style={{ marginTop: 16 }} aria-label={`Import of ${open.file}`}>
          <Heading>{open.file}</Heading>
          <ImportResult record={open} />
        </Panel>
      )}
    </>
  );
}

function Actions({ record }: { record: ImportRecord }) {
  const queries = useQueryClient();
  const may = useMay();
  const act = useMutation({
    mutationFn: (what: (id: string) => Promise<unknown>) => what(record.id),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["imports"] }),
  });
  if (!may("write", record.dataset)) return null;
  if (act.error) return <Failure error={act.error} />;
  if (record.stage === "running")
    return (
      <Button $quiet onPress={() => act.mutate(client.stopImport)}>
        Stop
      </Button>
    );
  return (
    <>
      {(record.stage === "stopped" || record.stage === "failed") && (
        <Button $quiet onPress={() => act.mutate(client.continueImport)}>
          Continue
        </Button>
      )}{" "}
      <Button $quiet onPress={() => act.mutate(client.forgetImport)} aria-label={`Forget ${record.file}`}>
        Forget
      </Button>
    </>
  );
}
