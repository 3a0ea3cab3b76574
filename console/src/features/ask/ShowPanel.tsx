/** One show of an answer: chart, legend and table in step. */
import { useMemo, useState } from "react";
import styled, { useTheme } from "styled-components";

import type { Answer, Line, Show } from "../../api/types";
import { decimals, figure } from "../../format/numbers";
import { millis } from "../../format/times";
import { Faint, Heading, Panel, Toggle } from "../../ui/parts";
import { AnswerTable } from "./AnswerTable";
import { Chart } from "./Chart";
import { chartData, isDrawable, lineKey, lineNames, summary } from "./chartData";

const Legend = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  margin: 8px 0 12px;
`;

const Mark = styled.span<{ $colour: string }>`
  display: inline-block;
  width: 14px;
  height: 3px;
  margin-right: 6px;
  vertical-align: middle;
  background: ${({ $colour }) => $colour};
`;

interface Props {
  answer: Answer;
  show: Show;
  onZoom: (fromSeconds: number, toSeconds: number) => void;
}

export function ShowPanel({ answer, show, onZoom }: Props) {
  const theme = useTheme();
  const [hidden, setHidden] = useState<ReadonlySet<string>>(new Set());
  const [pointed, setPointed] = useState<number | null>(null);
  const { names, shared } = useMemo(() => lineNames(show.lines), [show]);
  const data = useMemo(() => chartData(answer, show, hidden), [answer, show, hidden]);
  const shown = useMemo(
    () => show.lines.map((line, i) => ({ line, i })).filter(({ line }) => !hidden.has(lineKey(line.tags))),
    [show, hidden],
  );
  const styles = useMemo(() => shown.map(({ i }) => i), [shown]);
  const range = useMemo((): [number, number] => [millis(answer.from) / 1000, millis(answer.to) / 1000], [answer]);
  const drawable = isDrawable(show) && (data.xs.length > 1 || show.form === "points");
  const byKey = new Map(show.lines.map((line, i) => [lineKey(line.tags), names[i] ?? ""]));
  const places = decimals(data.columns.flatMap((column) => column.filter((value) => value !== null)));
  const toggle = (line: Line) => {
    const changed = new Set(hidden);
    if (!changed.delete(lineKey(line.tags))) changed.add(lineKey(line.tags));
    setHidden(changed);
  };
  const valueAt = (line: Line): string => {
    const at = shown.findIndex((one) => one.line === line);
    const value = pointed === null ? undefined : data.columns[at]?.[pointed];
    return typeof value === "number" ? ` ${figure(value, places)}` : "";
  };
  return (
    <Panel aria-label={show.label}>
      <Heading>{show.label}</Heading>
      <Faint>{[show.unit, shared && `all of ${shared}`, answer.zone].filter(Boolean).join(" · ")}</Faint>
      {show.lines.length === 0 && <p style={{ marginTop: 8 }}>Nothing matched.</p>}
      {drawable && (
        <Chart
          data={data}
          styles={styles}
          range={range}
          zone={answer.zone}
          unit={show.unit}
          label={summary(answer, show)}
          onZoom={onZoom}
          onPoint={setPointed}
        />
      )}
      {show.lines.length > 0 && (
        <Legend role="group" aria-label="Lines">
          {show.lines.map((line, i) => (
            <Toggle key={lineKey(line.tags)} isSelected={!hidden.has(lineKey(line.tags))} onChange={() => toggle(line)}>
              {drawable && <Mark $colour={theme.lines[i % theme.lines.length] ?? theme.ink} />}
              {names[i]}
              {valueAt(line)}
            </Toggle>
          ))}
        </Legend>
      )}
      {show.lines.length > 0 && (
        <AnswerTable answer={answer} show={show} names={byKey} lines={shown.map(({ line }) => line)} />
      )}
    </Panel>
  );
}
