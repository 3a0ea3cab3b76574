/** One show of an answer: chart, legend and table in step. */
import { useMemo, useState } from "react";
import styled, { useTheme } from "styled-components";

import type { Answer, Line, Show } from "../../api/types";
import { decimals, figure } from "../../format/numbers";
import { millis } from "../../format/times";
import { Button, Faint, Heading, Panel, Toggle } from "../../ui/parts";
import { AnswerTable } from "./AnswerTable";
import { Chart } from "./Chart";
import { chartData, choices, isDrawable, lineKey, lineNames, summary } from "./chartData";
import { Figures } from "./Figures";
import { Mark } from "./Mark";
import { unitText } from "../../format/units";

const Legend = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  margin: 8px 0 12px;
`;

interface Props {
  answer: Answer;
  show: Show;
  onZoom: (fromSeconds: number, toSeconds: number) => void;
  /** Adds a tag's value to the question as a condition, or what is not to be in it. */
  onTag: (tag: string, value: string, excluded: boolean) => void;
}

/** Values of one tag that are offered for narrowing. */
const MOST_CHOICES = 12;

/** From which levels of rollups its windows are, where any are. */
function rolledUp(answer: Answer, show: Show): string | null {
  const mine = answer.sources.filter((part) => show.label.includes(part.what));
  const levels = [...new Set(mine.map((part) => part.source))].filter(
    (source) => source !== "points" && source !== "nothing",
  );
  if (levels.length === 0) return null;
  const rollups = `from the ${levels.join(", ")} ${levels.length === 1 ? "rollup" : "rollups"}`;
  return mine.some((part) => part.source === "points") ? `${rollups} and points` : rollups;
}

export function ShowPanel({ answer, show, onZoom, onTag }: Props) {
  const theme = useTheme();
  const [hidden, setHidden] = useState<ReadonlySet<string>>(new Set());
  const [pointed, setPointed] = useState<number | null>(null);
  const { names, shared } = useMemo(() => lineNames(show.lines), [show]);
  const data = useMemo(() => chartData(answer, show, hidden), [answer, show, hidden]);
  const shown = useMemo(
    () => show.lines.map((line, i) => ({ line, i })).filter(({ line }) => !hidden.has(lineKey(line))),
    [show, hidden],
  );
  const styles = useMemo(() => shown.map(({ i }) => i), [shown]);
  const range = useMemo((): [number, number] => [millis(answer.from) / 1000, millis(answer.to) / 1000], [answer]);
  const units = useMemo(() => shown.map(({ line }) => line.unit ?? show.unit), [shown, show]);
  const narrowing = useMemo(() => choices(show.lines), [show]);
  const drawable = isDrawable(show) && (data.xs.length > 1 || show.form === "points");
  const byKey = new Map(show.lines.map((line, i) => [lineKey(line), names[i] ?? ""]));
  const places = decimals(data.columns.flatMap((column) => column.filter((value) => value !== null)));
  const toggle = (line: Line) => {
    const changed = new Set(hidden);
    if (!changed.delete(lineKey(line))) changed.add(lineKey(line));
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
      <Faint>
        {[unitText(show.unit), shared && `all of ${shared}`, answer.zone, rolledUp(answer, show)]
          .filter(Boolean)
          .join(" · ")}
      </Faint>
      {show.lines.length === 0 && <p style={{ marginTop: 8 }}>Nothing matched.</p>}
      <Figures show={show} names={names} />
      {drawable && (
        <Chart
          data={data}
          styles={styles}
          range={range}
          zone={answer.zone}
          units={units}
          label={summary(answer, show)}
          onZoom={onZoom}
          onPoint={setPointed}
        />
      )}
      {show.lines.length > 1 && (show.form !== "moment" || data.xs.length > 1) && (
        <Legend role="group" aria-label="Lines">
          {show.lines.map((line, i) => (
            <Toggle key={lineKey(line)} isSelected={!hidden.has(lineKey(line))} onChange={() => toggle(line)}>
              {drawable && <Mark $colour={theme.lines[i % theme.lines.length] ?? theme.ink} />}
              {names[i]}
              {valueAt(line)}
            </Toggle>
          ))}
        </Legend>
      )}
      {narrowing.map(({ key, values }) => (
        <Legend key={key} role="group" aria-label={`Narrow by ${key}`}>
          <Faint style={{ alignSelf: "center" }} title="Shift or Alt excludes the value">
            only {key}
          </Faint>
          {values.slice(0, MOST_CHOICES).map((value) => (
            <Button
              $quiet
              key={value}
              onPress={({ shiftKey, altKey }) => onTag(key, value, shiftKey || altKey)}
              aria-label={`Only ${key} ${value}; Shift excludes it`}
            >
              {value}
            </Button>
          ))}
          {values.length > MOST_CHOICES && (
            <Faint style={{ alignSelf: "center" }}>and {values.length - MOST_CHOICES} more</Faint>
          )}
        </Legend>
      ))}
      {show.lines.length > 0 && (
        <AnswerTable answer={answer} show={show} names={byKey} lines={shown.map(({ line }) => line)} />
      )}
    </Panel>
  );
}
