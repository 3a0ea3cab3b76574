/** Ask: the query as text, errors under the word, chart and table in step, all under one frame. */
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import styled from "styled-components";

import { CallError, checkTree } from "../../api/client";
import { answerQuery, checkQuery, metricsQuery, tagsQuery } from "../../api/queries";
import type { Answer, DatasetInfo, MetricInfo, Problem, QueryTree } from "../../api/types";
import { frameText, rangeBetween, usePlace, withoutFrame } from "../../frame/address";
import { FrameBar } from "../../frame/FrameBar";
import { millis } from "../../format/times";
import { Button, Faint, Failure, Notice, Panel, Title, Toggle } from "../../ui/parts";
import { QueryEditor } from "./QueryEditor";
import { QueryForm } from "./QueryForm";
import { ShowPanel } from "./ShowPanel";
import { TakeAway } from "./TakeAway";
import { CombinedChart, sharing } from "./CombinedChart";
import { compared, withTag } from "./tree";
import { WhatItRead } from "./WhatItRead";

const CHECK_AFTER_MS = 120;

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  margin-top: 8px;
`;

const Wrong = styled.pre`
  margin: 8px 0 0;
  white-space: pre-wrap;
  color: ${({ theme }) => theme.brick};
`;

export default function AskPage({ dataset }: { dataset: DatasetInfo }) {
  const [place, change] = usePlace();
  const client = useQueryClient();
  // What is being typed belongs to the query in the address that it began with.
  const [typed, setTyped] = useState({ of: place.query, text: place.query });
  const text = typed.of === place.query ? typed.text : place.query;
  const setText = (changed: string) => setTyped({ of: place.query, text: changed });
  const [fault, setFault] = useState<string | null>(null);
  const frame = frameText(place);
  const settled = useSettled(text, CHECK_AFTER_MS);
  const checked = useQuery(checkQuery(dataset.name, settled, frame));
  const answer = useQuery(answerQuery(dataset.name, place.query, frame));
  const { data: metrics = [] } = useQuery(metricsQuery(dataset.name));
  const { data: tags = [] } = useQuery(tagsQuery(dataset.name));
  const problem = settled === text ? (checked.data?.problem ?? null) : null;
  // A text that cannot be read leaves the form as it was; what the fields change counts at once.
  const [form, setForm] = useState<FormState | null>(null);
  const current = checked.data?.tree ?? null;
  if (current !== null && settled === text && form?.of !== settled)
    setForm({ tree: current, written: linesOf(checked.data?.canonical), of: settled });
  const inStep = form?.of === text;

  const ask = (query: string) => {
    setFault(null);
    if (query === place.query) void answer.refetch();
    else change({ query });
  };
  const write = async (tree: QueryTree, then: (query: string) => void) => {
    try {
      const { canonical, tree: read } = await checkTree(dataset.name, tree, frame);
      if (canonical === null || read === null) return;
      setForm({ tree: read, written: linesOf(canonical), of: canonical.trimEnd() });
      then(canonical.trimEnd());
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  };
  /** Changes the query that was answered, and asks it. */
  const reshape = async (changed: (tree: QueryTree) => QueryTree) => {
    const asked = await client.fetchQuery(checkQuery(dataset.name, place.query, frame));
    if (asked.tree !== null) await write(changed(asked.tree), ask);
  };
  const narrow = (tag: string, value: string, excluded: boolean) => {
    const hasTag = (metric: string) => metrics.some(({ name, tags: keys }) => name === metric && keys.includes(tag));
    void reshape((tree) => withTag(tree, tag, value, excluded, hasTag));
  };
  // A range that was pointed at holds for the whole page, so the query's own gives way to it.
  const zoom = (fromMillis: number, toMillis: number) => {
    const canonical = checked.data?.canonical;
    const query = canonical === null || canonical === undefined ? text : withoutFrame(canonical);
    change({ over: rangeBetween(fromMillis, toMillis), query });
  };
  return (
    <>
      <Title>Ask {dataset.name}</Title>
      <Panel aria-label="Question">
        <FrameBar datasetZone={dataset.zone} />
        <div style={{ height: 12 }} />
        <QueryEditor dataset={dataset.name} text={text} problem={problem} onChange={setText} onAsk={ask} />
        {problem && isUnfinished(problem, text) && <Faint role="status">{problem.detail}</Faint>}
        {problem && !isUnfinished(problem, text) && (
          <Wrong role="status">{problem.place?.drawing ?? problem.detail}</Wrong>
        )}
        {fault !== null && <Wrong role="status">{fault}</Wrong>}
        {form && text.trim() !== "" && (
          // While somebody types, the fields are those of the text before, and wait.
          <div style={{ opacity: inStep ? 1 : 0.6 }}>
            <QueryForm
              tree={form.tree}
              written={form.written}
              metrics={metrics}
              tags={tags}
              onChange={(tree) => inStep && void write(tree, setText)}
            />
          </div>
        )}
        <Row>
          <Button onPress={() => ask(text)} isDisabled={text.trim() === ""}>
            Ask
          </Button>
          <Faint>Ctrl+Enter</Faint>
          {text.trim() === "" && <Examples dataset={dataset.name} onChoose={ask} />}
          {place.query !== "" && <TakeAway dataset={dataset.name} query={place.query} frame={frame} />}
        </Row>
      </Panel>
      {answer.error && (
        <>
          <Failure error={answer.error} retry={() => void answer.refetch()} />
          <WaysOut
            error={answer.error}
            onWiden={() => change({ per: "auto" })}
            onShorten={() => change({ over: "last 1h" })}
          />
        </>
      )}
      {answer.data && !answer.error && place.query !== "" && (
        <div
          style={{ display: "grid", gap: 16, opacity: answer.isPlaceholderData ? 0.6 : 1 }}
          aria-busy={answer.isFetching}
        >
          {answer.data.notes.map((note) => (
            <Notice key={note}>{note}</Notice>
          ))}
          <Answers
            answer={answer.data}
            onZoom={zoom}
            onTag={narrow}
            onCompare={(span) => void reshape((tree) => compared(tree, span))}
          />
          <WhatItRead answer={answer.data} dataset={dataset.name} query={place.query} frame={frame} />
        </div>
      )}
    </>
  );
}

/** The query that the fields show, and the text that it is of. */
interface FormState {
  tree: QueryTree;
  written: string[];
  of: string;
}

const linesOf = (canonical: string | null | undefined): string[] => (canonical ?? "").split("\n");

interface AnswersProps {
  answer: Answer;
  onZoom: (fromMillis: number, toMillis: number) => void;
  onTag: (tag: string, value: string, excluded: boolean) => void;
  onCompare: (span: string) => void;
}

function Answers({ answer, onZoom, onTag, onCompare }: AnswersProps) {
  const [joined, setJoined] = useState(false);
  const shared = useMemo(() => sharing(answer), [answer]);
  const inSeconds = (from: number, to: number) => onZoom(from * 1000, to * 1000);
  const isMoment = answer.from === answer.to;
  return (
    <>
      {!isMoment && (
        <Row style={{ marginTop: 0 }}>
          <Moves answer={answer} onMove={onZoom} />
          <Row role="group" aria-label="Compare with" style={{ marginTop: 0 }}>
            <Faint>compare with</Faint>
            {["1d", "1w"].map((span) => (
              <Button
                $quiet
                key={span}
                onPress={() => {
                  setJoined(true);
                  onCompare(span);
                }}
              >
                {span} earlier
              </Button>
            ))}
          </Row>
          {shared.length > 0 && (
            <Toggle isSelected={joined} onChange={setJoined}>
              Combined chart
            </Toggle>
          )}
        </Row>
      )}
      {joined && shared.length > 0 && <CombinedChart answer={answer} shows={shared} onZoom={inSeconds} />}
      {answer.shows.map((show, i) => (
        // oxlint-disable-next-line react/no-array-index-key -- shows have no other identity than their order
        <ShowPanel key={`${i} ${show.label}`} answer={answer} show={show} onZoom={inSeconds} onTag={onTag} />
      ))}
    </>
  );
}

/** A query past its limits is shown the remedy, with a link to it. */
function WaysOut({ error, onWiden, onShorten }: { error: unknown; onWiden: () => void; onShorten: () => void }) {
  const problem = error instanceof CallError ? error.problem : null;
  if (problem === null || !/urn:fenetre:problem:(bound|timed-out)$/.test(problem.type)) return null;
  return (
    <Row role="group" aria-label="Suggestions">
      <Button $quiet onPress={onWiden}>
        Use a round window width
      </Button>
      <Button $quiet onPress={onShorten}>
        Use the last hour
      </Button>
      <Faint>or merge series with `by` or `overall`, in the form above</Faint>
    </Row>
  );
}

/** Whether the text is only incomplete: no error is shown while typing. */
function isUnfinished(problem: Problem, text: string): boolean {
  const end = new TextEncoder().encode(text.trimEnd()).length;
  return problem.place?.text === "query" && problem.place.start >= end;
}

/** The text as it was when it last stood still for a while. */
function useSettled(text: string, afterMs: number): string {
  const [settled, setSettled] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), afterMs);
    return () => clearTimeout(timer);
  }, [text, afterMs]);
  return settled;
}

/** Dragging across a chart sets the frame; so do these, from the keyboard. */
function Moves({ answer, onMove }: { answer: Answer; onMove: (fromMillis: number, toMillis: number) => void }) {
  const from = millis(answer.from);
  const to = millis(answer.to);
  const span = to - from;
  return (
    <Row role="group" aria-label="Move the frame" style={{ marginTop: 0 }}>
      <Button $quiet onPress={() => onMove(from - span / 2, to - span / 2)}>
        ← Earlier
      </Button>
      <Button $quiet onPress={() => onMove(from + span / 2, to + span / 2)}>
        Later →
      </Button>
      <Button $quiet onPress={() => onMove(from + span / 4, to - span / 4)}>
        Zoom in
      </Button>
      <Button $quiet onPress={() => onMove(from - span / 2, to + span / 2)}>
        Zoom out
      </Button>
      <Faint>or drag across a chart</Faint>
    </Row>
  );
}

function example({ name, kind, tags }: MetricInfo): string {
  const grouping = tags[0] === undefined ? "" : ` by ${tags[0]}`;
  const reducer = { state: "changes", counter: "growth", histogram: "p90", gauge: "mean" }[kind];
  return `show ${reducer} of ${name}${grouping}`;
}

function Examples({ dataset, onChoose }: { dataset: string; onChoose: (query: string) => void }) {
  const { data = [] } = useQuery(metricsQuery(dataset));
  const plain = data.filter(({ name }) => /^[a-z_]\w*$/i.test(name)).slice(0, 4);
  if (plain.length === 0) return null;
  return (
    <>
      <Faint>or start with</Faint>
      {plain.map((metric) => (
        <Button $quiet key={metric.name} onPress={() => onChoose(example(metric))}>
          {example(metric)}
        </Button>
      ))}
    </>
  );
}
