/** Many definitions at once: a table to take away, edit in a spreadsheet and bring back, with what would differ before it is applied. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import * as client from "../../api/client";
import type { Differences } from "../../api/types";
import { count } from "../../format/numbers";
import { Allowed } from "../../ui/Allowed";
import { FileButton } from "../../ui/FileButton";
import { LongTable, type LongColumn } from "../../ui/LongTable";
import { Button, Faint, Failure } from "../../ui/parts";
import { changesOf, summaryOf, type Line } from "./differences";
import { Row, Stack } from "./layout";

const COLUMNS: LongColumn<Line>[] = [
  { name: "metric", width: "minmax(160px, 1fr)", cell: (line) => line.metric },
  { name: "what", width: "140px", cell: (line) => line.field },
  { name: "now", width: "minmax(140px, 1fr)", cell: (line) => <span title={line.before}>{line.before}</span> },
  { name: "then", width: "minmax(140px, 1fr)", cell: (line) => <span title={line.after}>{line.after}</span> },
];

export function EditMany({ dataset }: { dataset: string }) {
  const queries = useQueryClient();
  const [table, setTable] = useState<File | null>(null);
  const [differences, setDifferences] = useState<Differences | null>(null);
  const send = useMutation({
    mutationFn: ({ file, dryRun }: { file: File; dryRun: boolean }) => client.putDefinitions(dataset, file, dryRun),
    onSuccess: async (differences) => {
      setDifferences(differences);
      if (differences.applied) await queries.invalidateQueries();
    },
  });
  const choose = (file: File) => {
    setTable(file);
    setDifferences(null);
    send.mutate({ file, dryRun: true });
  };
  const lines = differences ? changesOf(differences) : [];
  return (
    <div style={{ display: "grid", gap: 8, marginBottom: 12 }}>
      <Row style={{ alignItems: "center" }}>
        <a href={client.definitionsUrl(dataset)} download>
          Export definitions (CSV)
        </a>
        <Allowed to="define" dataset={dataset}>
          <FileButton
            label="Import edited definitions"
            busy={send.isPending ? "Reading …" : null}
            endings={[".csv"]}
            quiet
            onFile={choose}
          />
          {!differences && <Faint>Omitted columns and metrics without a row stay unchanged.</Faint>}
        </Allowed>
      </Row>
      {send.error && <Failure error={send.error} />}
      {differences && table && (
        <Stack aria-label="What would differ">
          <p role="status">{summaryOf(differences, table.name)}</p>
          {!differences.applied && lines.length > 0 && (
            <LongTable
              label="Differences"
              items={lines}
              columns={COLUMNS}
              keyOf={(line) => `${line.metric}\n${line.field}`}
              height={300}
            />
          )}
          <Row>
            {!differences.applied && lines.length > 0 && (
              <Button isDisabled={send.isPending} onPress={() => send.mutate({ file: table, dryRun: false })}>
                Apply all {count(lines.length)}
              </Button>
            )}
            <Button $quiet onPress={() => setDifferences(null)}>
              {differences.applied || lines.length === 0 ? "Close" : "Change nothing"}
            </Button>
          </Row>
        </Stack>
      )}
    </div>
  );
}
