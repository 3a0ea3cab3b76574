/** Ask: the query as text, errors under the word, chart and table in step, all under one frame. */
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import styled from "styled-components";

import { answerQuery, checkQuery, metricsQuery } from "../../api/queries";
import type { Answer, DatasetInfo, MetricInfo } from "../../api/types";
import { frameText, rangeBetween, usePlace, withoutFrame } from "../../app/address";
import { FrameBar } from "../../app/FrameBar";
import { count } from "../../format/numbers";
import { millis } from "../../format/times";
import { Button, Faint, Failure, Notice, Panel, Title } from "../../ui/parts";
import { QueryEditor } from "./QueryEditor";
import { ShowPanel } from "./ShowPanel";

const CHECK_AFTER_MS = 200;

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
  // What is being typed belongs to the query in the address that it began with.
  const [typed, setTyped] = useState({ of: place.query, text: place.query });
  const text = typed.of === place.query ? typed.text : place.query;
  const setText = (changed: string) => setTyped({ of: place.query, text: changed });
  const frame = frameText(place);
  const settled = useSettled(text, CHECK_AFTER_MS);
  const checked = useQuery(checkQuery(dataset.name, settled, frame));
  const answer = useQuery(answerQuery(dataset.name, place.query, frame));
  const problem = settled === text ? (checked.data?.problem ?? null) : null;

  const ask = (query: string) => {
    if (query === place.query) void answer.refetch();
    else change({ query });
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
        <QueryEditor text={text} problem={problem} onChange={setText} onAsk={ask} />
        {problem && <Wrong role="status">{problem.place?.drawing ?? problem.detail}</Wrong>}
        <Row>
          <Button onPress={() => ask(text)} isDisabled={text.trim() === ""}>
            Ask
          </Button>
          <Faint>Ctrl+Enter</Faint>
          {text.trim() === "" && <Examples dataset={dataset.name} onChoose={ask} />}
        </Row>
      </Panel>
      {answer.error && <Failure error={answer.error} retry={() => void answer.refetch()} />}
      {answer.data && !answer.error && place.query !== "" && (
        <div
          style={{ display: "grid", gap: 16, opacity: answer.isPlaceholderData ? 0.6 : 1 }}
          aria-busy={answer.isFetching}
        >
          {answer.data.notes.map((note) => (
            <Notice key={note}>{note}</Notice>
          ))}
          <Moves answer={answer.data} onMove={zoom} />
          {answer.data.shows.map((show, i) => (
            // oxlint-disable-next-line react/no-array-index-key -- shows have no other identity than their order
            <ShowPanel
              key={`${i} ${show.label}`}
              answer={answer.data}
              show={show}
              onZoom={(from, to) => zoom(from * 1000, to * 1000)}
            />
          ))}
          <Cost answer={answer.data} />
        </div>
      )}
    </>
  );
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
        Closer
      </Button>
      <Button $quiet onPress={() => onMove(from - span / 2, to + span / 2)}>
        Wider
      </Button>
      <Faint>or drag across a chart</Faint>
    </Row>
  );
}

function example({ name, kind, tags }: MetricInfo): string {
  const grouping = tags[0] === undefined ? "" : ` by ${tags[0]}`;
  return kind === "state" ? `show last of ${name}` : `show mean of ${name}${grouping}`;
}

function Examples({ dataset, onChoose }: { dataset: string; onChoose: (query: string) => void }) {
  const { data = [] } = useQuery(metricsQuery(dataset));
  const plain = data.filter(({ name, kind }) => /^[a-z_]\w*$/i.test(name) && kind !== "counter").slice(0, 4);
  if (plain.length === 0) return null;
  return (
    <>
      <Faint>or begin with</Faint>
      {plain.map((metric) => (
        <Button $quiet key={metric.name} onPress={() => onChoose(example(metric))}>
          {example(metric)}
        </Button>
      ))}
    </>
  );
}

/** What it read. */
function Cost({ answer: { cost, windows } }: { answer: Answer }) {
  return (
    <Faint role="status">
      {count(cost.series)} series, {count(windows.starts.length)} {windows.starts.length === 1 ? "window" : "windows"}{" "}
      in {cost.milliseconds} ms: {count(cost.blocks_summarised)} blocks answered by summary,{" "}
      {count(cost.blocks_decoded)} decoded, {count(cost.points_read)} points read
    </Faint>
  );
}
