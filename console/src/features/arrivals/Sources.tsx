/** Sources: state, targets, devices or files, rejects, log, and actions. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Label, TextArea, TextField } from "react-aria-components";
import styled from "styled-components";

import { useMay } from "../../api/caller";
import * as client from "../../api/client";
import { sourceEventsQuery, sourceExamplesQuery, sourcesQuery } from "../../api/queries";
import type { DefinedSource, SourceInfo, SourcePart } from "../../api/types";
import { count } from "../../format/numbers";
import { ago } from "../../format/times";
import { FormRow, Pick, TextInput } from "../../ui/fields";
import { Button, Faint, Failure, Heading, Panel, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { SureButton } from "../../ui/SureButton";

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

const Code = styled.pre`
  font:
    13px/18px ui-monospace,
    "DejaVu Sans Mono",
    monospace;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;

export function Sources({ dataset }: { dataset: string }) {
  const { data, error, refetch, dataUpdatedAt } = useQuery(sourcesQuery);
  const may = useMay();
  const [open, setOpen] = useState<string | null>(null);
  const [draft, setDraft] = useState<Draft>(() => ({ name: "", text: example(dataset) }));
  if (!data) return <Waiting error={error} retry={refetch} />;
  return (
    <>
      {data.length === 0 ? (
        <p>
          No source is defined. A source fetches points automatically: from addresses, brokers, devices, databases or
          folders.
        </p>
      ) : (
        <TableFrame aria-label="Sources">
          <PlainTable aria-label="Sources">
            <thead>
              <tr>
                <th>source</th>
                <th>kind</th>
                <th>dataset</th>
                <th>state</th>
                <th>last points</th>
                <th className="figure">points</th>
                <th className="figure">rejected</th>
                <th>actions</th>
              </tr>
            </thead>
            <tbody>
              {data.map((source) => (
                <Fragment key={source.name}>
                  <tr>
                    <td>{source.name}</td>
                    <td>{source.kind}</td>
                    <td>{source.dataset}</td>
                    <td style={{ whiteSpace: "normal" }}>{stateOf(source)}</td>
                    <td title={source.last_points ?? ""}>
                      {source.last_points === null ? "none yet" : ago(source.last_points, dataUpdatedAt)}
                    </td>
                    <td className="figure">{count(source.points)}</td>
                    <td className="figure" title={latestReject(source) ?? ""}>
                      {count(source.rejected)}
                    </td>
                    <td>
                      <Button
                        $quiet
                        $low
                        aria-label={`${open === source.name ? "Close details" : "Details"} of ${source.name}`}
                        onPress={() => setOpen(open === source.name ? null : source.name)}
                      >
                        {open === source.name ? "Close" : "Details"}
                      </Button>{" "}
                      {may("admin") && <Actions source={source} />}
                    </td>
                  </tr>
                  {open === source.name && (
                    <tr>
                      <td colSpan={8} style={{ whiteSpace: "normal" }}>
                        <Details source={source} edit={may("admin") ? setDraft : undefined} />
                      </td>
                    </tr>
                  )}
                </Fragment>
              ))}
            </tbody>
          </PlainTable>
        </TableFrame>
      )}
      {may("admin") && <AddSource draft={draft} change={setDraft} dataset={dataset} />}
    </>
  );
}

/** The state of a source and its errors. */
function stateOf({ state, is_late: isLate, error, parts }: SourceInfo): string {
  const failed = parts.filter((part) => part.error !== null && part.points === 0);
  const partly = parts.filter((part) => part.error !== null && part.points > 0);
  const more = [
    ...(isLate ? ["late"] : []),
    ...(error !== null ? [error] : []),
    ...(error === null && failed.length > 0 ? [`${failed.length} of ${parts.length} failed`] : []),
    ...(error === null && partly.length > 0 ? [`${partly.length} of ${parts.length} partly failed`] : []),
  ];
  return [state, ...more].join(": ");
}

function latestReject({ rejects }: SourceInfo): string | undefined {
  return rejects.flatMap((reject) => reject.samples).at(-1);
}

/** What became of a part: its points, its error, or both. */
function resultOf({ points, error }: SourcePart): string {
  if (error === null) return `${count(points)} points`;
  return points > 0 ? `${count(points)} points, ${error}` : error;
}

function Actions({ source }: { source: SourceInfo }) {
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: (what: () => Promise<unknown>) => what(),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sources"] }),
  });
  if (act.error) return <Failure error={act.error} />;
  const change = (word: client.SourceChange) => act.mutate(() => client.changeSource(source.name, word));
  return (
    <>
      {source.state === "paused" ? (
        <Button $quiet $low onPress={() => change("resume")} aria-label={`Resume ${source.name}`}>
          Resume
        </Button>
      ) : (
        <>
          <Button $quiet $low onPress={() => change("run")} aria-label={`Run now: ${source.name}`}>
            Run now
          </Button>{" "}
          <Button $quiet $low onPress={() => change("pause")} aria-label={`Pause ${source.name}`}>
            Pause
          </Button>
        </>
      )}{" "}
      <SureButton
        isLow
        sure={`Really remove ${source.name}`}
        onSure={() => act.mutate(() => client.removeSource(source.name))}
      >
        Remove
      </SureButton>
    </>
  );
}

function Details({ source, edit }: { source: SourceInfo; edit: ((draft: Draft) => void) | undefined }) {
  const { data: events = [] } = useQuery(sourceEventsQuery(source.name));
  const text = JSON.stringify(source.definition, null, 2);
  return (
    <>
      {source.parts.map((part) => (
        <p key={part.name}>
          {part.name}: {resultOf(part)} <Faint>{Math.round(part.seconds * 1000)} ms in the latest round</Faint>
        </p>
      ))}
      {source.rejects.map((reject) => (
        <div key={reject.cause}>
          <p>
            {count(reject.count)} rejected: {reject.text}
          </p>
          {reject.samples.map((sample) => (
            <p key={sample}>
              <Faint>{sample}</Faint>
            </p>
          ))}
        </div>
      ))}
      {source.sent !== null && (
        <>
          <Heading style={{ marginTop: 8 }}>Statement</Heading>
          <Code>{source.sent}</Code>
        </>
      )}
      <Heading style={{ marginTop: 8 }}>Log</Heading>
      {events.slice(0, 20).map((event) => (
        <p key={`${event.first} ${event.text}`}>
          <Faint>{event.last.slice(0, 19).replace("T", " ")}</Faint> {event.text}
          {event.count > 1 && <Faint> ({count(event.count)} times)</Faint>}
        </p>
      ))}
      <Heading style={{ marginTop: 8 }}>Definition</Heading>
      <Code>{text}</Code>
      {edit && (
        <Button $quiet $low onPress={() => edit({ name: source.name, text })}>
          Edit below
        </Button>
      )}
    </>
  );
}

const KIND = "poll";

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

function done(difference: DefinedSource["difference"]): string {
  switch (difference) {
    case "new":
      return "Added and started.";
    case "changed":
      return "Changed, and started again.";
    case "none":
      return "The same already: nothing was changed.";
  }
}

/** A definition that is being written. */
interface Draft {
  name: string;
  text: string;
}

interface AddProps {
  draft: Draft;
  change: (draft: Draft) => void;
  dataset: string;
}

function AddSource({ draft, change, dataset }: AddProps) {
  const queries = useQueryClient();
  const { name, text } = draft;
  const attempt = useMutation({ mutationFn: () => client.trySource(text) });
  const add = useMutation({
    mutationFn: () => client.putSource(name, text),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sources"] }),
  });
  const { data: examples = [] } = useQuery(sourceExamplesQuery);
  const [kind, setKind] = useState(KIND);
  const failure = add.error ?? attempt.error;
  const start = (kind: string): void => {
    setKind(kind);
    const found = examples.find((example) => example.kind === kind);
    if (found) change({ ...draft, text: into(found.definition, dataset) });
  };
  return (
    <Panel aria-label="Add a source" style={{ marginTop: 16 }}>
      <Heading>Add a source, or change one</Heading>
      <FormRow>
        <Pick label="start from" value={kind} choices={examples.map((example) => example.kind)} onChange={start} />
        <Faint>A definition of this kind replaces the text below.</Faint>
      </FormRow>
      <Text value={text} onChange={(text) => change({ ...draft, text })}>
        <Label>Definition (TOML or JSON)</Label>
        <TextArea spellCheck={false} />
      </Text>
      <FormRow>
        <TextInput label="name" value={name} onChange={(name) => change({ ...draft, name })} placeholder="control" />
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
              {part.name}: {resultOf(part)}
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
