/** What an answer took: series, blocks, points, and the time of each stage; what it would do, before it does. */
import { useQuery } from "@tanstack/react-query";
import { Button as Summary, Disclosure, DisclosurePanel } from "react-aria-components";
import styled, { useTheme } from "styled-components";

import { explainQuery } from "../../api/queries";
import type { Answer } from "../../api/types";
import { bytes, count, short } from "../../format/numbers";
import { clock } from "../../format/times";
import { Faint, PlainTable } from "../../ui/parts";

const Opener = styled(Summary)`
  font: inherit;
  padding: 4px 0;
  border: 0;
  background: none;
  color: ${({ theme }) => theme.faint};
  cursor: pointer;
  text-align: left;
  &[data-hovered] {
    color: ${({ theme }) => theme.ink};
  }
  &[data-focus-visible] {
    outline: 2px solid ${({ theme }) => theme.water};
  }
`;

const Bar = styled.div`
  display: flex;
  height: 10px;
  margin: 6px 0;
  max-width: 480px;
  border: 1px solid ${({ theme }) => theme.rule};
  span {
    min-width: 1px;
  }
`;

interface Props {
  answer: Answer;
  dataset: string;
  query: string;
  frame: string;
}

export function WhatItRead({ answer, dataset, query, frame }: Props) {
  const { cost, windows } = answer;
  const cut =
    windows.starts.length === 0
      ? ""
      : `${count(windows.starts.length)} ${windows.starts.length === 1 ? "window" : "windows"} `;
  const rolled = cost.windows_read > 0 ? `, ${count(cost.windows_read)} windows of rollups` : "";
  return (
    <Disclosure>
      <Opener slot="trigger">
        <span role="status">
          {count(cost.series)} series, {cut}in {cost.milliseconds} ms: {count(cost.blocks_skipped)} blocks skipped,{" "}
          {count(cost.blocks_summarised)} answered by summary, {count(cost.blocks_decoded)} decoded,{" "}
          {count(cost.points_read)} points read{rolled} ▾
        </span>
      </Opener>
      <DisclosurePanel>
        <Stages cost={cost} />
        <Sources answer={answer} />
        <Plan dataset={dataset} query={query} frame={frame} />
      </DisclosurePanel>
    </Disclosure>
  );
}

const sourceName = (source: string): string =>
  source === "points" || source === "nothing" ? source : `${source} rollup`;

/** Which part of time was answered by what. */
function Sources({ answer }: { answer: Answer }) {
  if (answer.sources.every((part) => part.source === "points")) return null;
  const time = clock(answer.zone, ["2026-01-01T00:01:00Z"]);
  // What a read has in common with the row above it stands there once.
  const isFirst = (at: number) => at === 0 || answer.sources[at - 1]?.what !== answer.sources[at]?.what;
  return (
    <PlainTable>
      <thead>
        <tr>
          <th>read</th>
          <th>from</th>
          <th>to</th>
          <th>source</th>
        </tr>
      </thead>
      <tbody>
        {answer.sources.map((part, at) => (
          <tr key={`${part.what} ${part.from}`}>
            <td>{isFirst(at) && part.what}</td>
            <td>{time(part.from)}</td>
            <td>{time(part.to)}</td>
            <td>
              {sourceName(part.source)} {part.why && <Faint>{part.why}</Faint>}
            </td>
          </tr>
        ))}
      </tbody>
    </PlainTable>
  );
}

function Stages({ cost }: { cost: Answer["cost"] }) {
  const { lines } = useTheme();
  const { planning, reading, computing, writing } = cost.stages;
  const stages = { planning, reading, computing, writing };
  const all = Object.values(stages).reduce((sum, one) => sum + one, 0) || 1;
  return (
    <>
      <Bar aria-hidden>
        {Object.entries(stages).map(([name, time], i) => (
          <span key={name} style={{ flex: time / all, background: lines[i] ?? "" }} />
        ))}
      </Bar>
      <p>
        {Object.entries(stages).map(([name, time], i) => (
          <span key={name} style={{ marginRight: 16 }}>
            <span
              aria-hidden
              style={{ display: "inline-block", width: 10, height: 10, marginRight: 6, background: lines[i] ?? "" }}
            />
            {name} {time} ms
          </span>
        ))}
      </p>
    </>
  );
}

function Plan({ dataset, query, frame }: Omit<Props, "answer">) {
  const { data } = useQuery(explainQuery(dataset, query, frame));
  if (data === undefined) return <Faint>…</Faint>;
  return (
    <>
      <p>
        <Faint>{data.time}</Faint>
      </p>
      <PlainTable>
        <thead>
          <tr>
            <th>read</th>
            <th className="figure">series</th>
            <th className="figure">lines</th>
            <th className="figure">points</th>
            <th className="figure">packed</th>
            <th>how</th>
          </tr>
        </thead>
        <tbody>
          {data.reads.map((read) => (
            <tr key={read.what}>
              <td>{read.what}</td>
              <td className="figure">{count(read.series)}</td>
              <td className="figure">{count(read.lines)}</td>
              <td className="figure">{read.points === null ? "–" : short(read.points)}</td>
              <td className="figure">{read.bytes === null ? "–" : bytes(read.bytes)}</td>
              <td style={{ whiteSpace: "normal" }}>{read.how}</td>
            </tr>
          ))}
        </tbody>
      </PlainTable>
    </>
  );
}
