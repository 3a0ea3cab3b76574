/** Import a file: choose it, say what its columns are, try, run, look at the result. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";

import * as client from "../../api/client";
import type { ImportLook, ImportRecord } from "../../api/types";
import { bytes } from "../../format/numbers";
import { Pick, TextInput } from "../../ui/fields";
import { FileButton } from "../../ui/FileButton";
import { Button, Faint, Failure, Heading, Notice, Panel, PlainTable, TableFrame } from "../../ui/parts";
import { ImportResult } from "./ImportResult";
import { choicesOf, mappingOf, openQuestions, ROLES, wholeOf, type ColumnChoice, type Whole } from "./roles";

const ENDINGS = [
  ".csv",
  ".tsv",
  ".txt",
  ".json",
  ".ndjson",
  ".jsonl",
  ".senml",
  ".om",
  ".arrows",
  ".parquet",
  ".gz",
  ".zst",
];

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: end;
`;

const Stack = styled.div`
  display: grid;
  gap: 16px;
  grid-template-columns: minmax(0, 1fr);
`;

const Columns = styled(PlainTable)`
  th,
  td {
    vertical-align: top;
    min-width: 130px;
    font-weight: 400;
  }
  th strong {
    display: block;
    margin-bottom: 4px;
  }
  th div {
    margin-bottom: 4px;
  }
  th small {
    display: block;
    white-space: normal;
    color: ${({ theme }) => theme.faint};
  }
`;

export function ImportWizard({ dataset }: { dataset: string }) {
  const [record, setRecord] = useState<ImportRecord | null>(null);
  const upload = useMutation({
    mutationFn: (file: File) => client.uploadImport(dataset, file),
    onSuccess: setRecord,
  });
  if (record) return <Meaning key={record.id} record={record} again={() => setRecord(null)} />;
  return (
    <Panel>
      <Stack>
        <Heading>1 · Choose a file</Heading>
        <p>
          CSV and TSV, JSON and JSON Lines, SenML, OpenMetrics, Arrow streams and Parquet; gzip and zstd are recognised.
          The file is sent to the service and read there. Nothing is stored until you import it.
        </p>
        <Row>
          <FileButton
            label="Choose a file"
            busy={upload.isPending ? "Sending …" : null}
            endings={ENDINGS}
            onFile={(file) => upload.mutate(file)}
          />
          <Faint>
            From a terminal: <code>fenetre import FILE --guess --dry-run</code>
          </Faint>
        </Row>
        {upload.error && <Failure error={upload.error} />}
      </Stack>
    </Panel>
  );
}

/** The second step: what the file is, and what its columns mean. */
function Meaning({ record, again }: { record: ImportRecord; again: () => void }) {
  const look = useQuery({
    queryKey: ["look", record.id],
    queryFn: () => client.lookAtImport(record.id),
    staleTime: Infinity,
  });
  if (look.error) return <Failure error={look.error} retry={() => void look.refetch()} />;
  if (!look.data) return <p>Loading …</p>;
  return <Try record={record} look={look.data} again={again} />;
}

function Try({ record, look, again }: { record: ImportRecord; look: ImportLook; again: () => void }) {
  const queries = useQueryClient();
  const [choices, setChoices] = useState(() => choicesOf(look));
  const [whole, setWhole] = useState(() => wholeOf(look));
  const say = (change: Partial<Whole>) => setWhole({ ...whole, ...change });
  const [name, setName] = useState("");
  const isTable = look.names.length > 0;
  const mapping = isTable ? mappingOf(look.guess.mapping, choices, whole) : null;
  const open = mapping ? openQuestions(look, mapping, whole) : [];
  const run = useMutation({
    mutationFn: (dryRun: boolean) => client.runImport(record.id, mapping, dryRun),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["import", record.id] }),
  });
  const keep = useMutation({ mutationFn: () => client.keepMapping(name, mapping ?? {}) });
  const state = useQuery({
    queryKey: ["import", record.id],
    queryFn: () => client.fetchImport(record.id),
    refetchInterval: (query) => (query.state.data?.stage === "running" ? 300 : false),
  });
  const now = state.data ?? record;
  const isDone = now.stage === "done";
  return (
    <Stack>
      <Panel>
        <Row style={{ justifyContent: "space-between", alignItems: "center" }}>
          <Heading>
            {record.file} <Faint>({bytes(record.bytes)})</Faint>
          </Heading>
          <Button $quiet onPress={again}>
            Another file
          </Button>
        </Row>
        {[...look.notes, ...(look.guess.notes ?? [])].map((note) => (
          <Faint key={note}>{note}</Faint>
        ))}
      </Panel>
      {isTable && !isDone && (
        <Panel>
          <Stack>
            <Heading>2 · Say what its columns are</Heading>
            <ColumnTable look={look} choices={choices} setChoices={setChoices} />
            <Row>
              <TextInput
                label="Time zone of times without an offset"
                value={whole.zone}
                onChange={(zone) => say({ zone })}
                placeholder="Europe/Lisbon"
              />
              <TextInput
                label="Time format"
                value={whole.format}
                onChange={(format) => say({ format })}
                placeholder="detected"
              />
              <TextInput
                label="Tags of every row"
                value={whole.constants}
                onChange={(constants) => say({ constants })}
                placeholder="reach=upper year=2026"
              />
              <TextInput label="Store as mapping" value={name} onChange={setName} placeholder="a name" />
              <Button $quiet isDisabled={name === "" || keep.isPending} onPress={() => keep.mutate()}>
                Keep
              </Button>
              {keep.isSuccess && <Faint role="status">stored as {name}</Faint>}
            </Row>
            {open.map((question) => (
              <Notice key={question.text}>
                <p>{question.text}</p>
                <Row>
                  {question.choices?.map((format) => (
                    <Button $quiet key={format} onPress={() => say({ format })}>
                      {format}
                    </Button>
                  ))}
                  {question.about === "time_column" && (
                    <Button $quiet onPress={() => say({ untimed: true })}>
                      Rows get the time of arrival
                    </Button>
                  )}
                </Row>
              </Notice>
            ))}
            {keep.error && <Failure error={keep.error} />}
          </Stack>
        </Panel>
      )}
      <Panel>
        <Stack>
          <Heading>{isDone ? "Done" : "3 · Try it, then import it"}</Heading>
          {!isDone && (
            <Row>
              <Button $quiet isDisabled={now.stage === "running" || open.length > 0} onPress={() => run.mutate(true)}>
                Dry run
              </Button>
              <Button isDisabled={now.stage === "running" || open.length > 0} onPress={() => run.mutate(false)}>
                Import
              </Button>
              {now.stage === "running" && (
                <Button $quiet onPress={() => void client.stopImport(record.id)}>
                  Stop
                </Button>
              )}
            </Row>
          )}
          {run.error && <Failure error={run.error} />}
          {(now.rows > 0 || now.stage !== "waiting") && <ImportResult record={now} />}
          {isDone && (
            <p>
              <Link to={{ pathname: "/catalogue", search: `dataset=${encodeURIComponent(record.dataset)}` }}>
                Show in the Catalogue
              </Link>
            </p>
          )}
          {!isTable && !isDone && <Notice>This format needs no mapping.</Notice>}
        </Stack>
      </Panel>
    </Stack>
  );
}

function ColumnTable({
  look,
  choices,
  setChoices,
}: {
  look: ImportLook;
  choices: ColumnChoice[];
  setChoices: (choices: ColumnChoice[]) => void;
}) {
  const change = (column: string, changed: Partial<ColumnChoice>) =>
    setChoices(choices.map((choice) => (choice.column === column ? { ...choice, ...changed } : choice)));
  return (
    <TableFrame $height={420} aria-label="Columns and first rows">
      <Columns aria-label="Columns and first rows">
        <thead>
          <tr>
            {choices.map((choice) => (
              <th key={choice.column} scope="col">
                <strong>{choice.column}</strong>
                <div>
                  <Pick
                    label={`Role of ${choice.column}`}
                    hidden
                    value={choice.role}
                    choices={ROLES}
                    onChange={(role) => change(choice.column, { role })}
                  />
                </div>
                {["tag", "value", "state"].includes(choice.role) && (
                  <div>
                    <TextInput
                      label={`Name for ${choice.column}`}
                      hidden
                      value={choice.name}
                      onChange={(name) => change(choice.column, { name })}
                      placeholder={choice.role === "tag" ? "key" : "metric"}
                    />
                  </div>
                )}
                {choice.role === "value" && (
                  <div>
                    <TextInput
                      label={`Unit of ${choice.column}`}
                      hidden
                      value={choice.unit}
                      onChange={(unit) => change(choice.column, { unit })}
                      placeholder="unit"
                    />
                  </div>
                )}
                <small>{choice.why}</small>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {look.rows.slice(0, 6).map((row, at) => (
            // oxlint-disable-next-line react/no-array-index-key -- rows have no names but their places
            <tr key={at}>
              {row.map((cell, column) => (
                <td key={look.names[column] ?? column}>{cell}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </Columns>
    </TableFrame>
  );
}
