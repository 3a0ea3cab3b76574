/** The same values as the chart, as a table: of any length, sorted by any column. */
import { useMemo, useState } from "react";
import styled from "styled-components";

import type { Answer, Line, Show } from "../../api/types";
import { decimals, tell } from "../../format/numbers";
import { clock, millis } from "../../format/times";
import { LongTable, type LongColumn } from "../../ui/LongTable";
import { Faint } from "../../ui/parts";
import { lineKey, timesOf } from "./chartData";

const HEIGHT = 320;

const Sorter = styled.button`
  font: inherit;
  font-weight: 600;
  padding: 0;
  border: 0;
  background: none;
  color: inherit;
  cursor: pointer;
`;

interface Props {
  answer: Answer;
  show: Show;
  names: Map<string, string>;
  lines: Line[];
}

interface Row {
  key: string;
  /** What each column is sorted by. */
  sort: (string | number | null)[];
  cells: string[];
  note?: string;
  exact?: string;
}

export function AnswerTable(props: Props) {
  const { columns, rows } = useMemo(() => tableOf(props), [props]);
  const [order, setOrder] = useState<{ column: number; down: boolean }>({ column: -1, down: false });
  const sorted = useMemo(() => {
    if (order.column < 0) return rows;
    const sign = order.down ? -1 : 1;
    return rows.toSorted((a, b) => sign * compared(a.sort[order.column] ?? null, b.sort[order.column] ?? null));
  }, [rows, order]);
  const press = (column: number) =>
    setOrder((before) => (before.column === column ? { column, down: !before.down } : { column, down: false }));
  const heads: LongColumn<Row>[] = columns.map(({ name, figure, width }, i) => ({
    name: `${i} ${name}`,
    head: (
      <Sorter type="button" onClick={() => press(i)} aria-label={`Sort by ${name}`}>
        {name}
        {order.column === i ? (order.down ? " ↓" : " ↑") : ""}
      </Sorter>
    ),
    sorted: order.column === i ? (order.down ? "descending" : "ascending") : "none",
    width,
    figure,
    cell: (row) => (
      <span title={i === 0 ? row.exact : undefined}>
        {row.cells[i]} {i === 0 && row.note !== undefined && <Faint>{row.note}</Faint>}
      </span>
    ),
  }));
  return (
    <LongTable
      label={`Table of ${props.show.label}`}
      items={sorted}
      columns={heads}
      keyOf={({ key }) => key}
      height={HEIGHT}
    />
  );
}

/** Nothing comes last, whichever way. */
function compared(a: string | number | null, b: string | number | null): number {
  if (a === null || b === null) return a === b ? 0 : a === null ? 1 : -1;
  return typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b));
}

interface Head {
  name: string;
  width: string;
  figure: boolean;
}

function tableOf({ answer, show, names, lines }: Props): { columns: Head[]; rows: Row[] } {
  const numbers = show.lines.flatMap((line) => line.values.filter((value) => typeof value === "number"));
  const places = decimals(numbers);
  const textOf = (value: Line["values"][number] | undefined): string => tell(value, places);
  const sortOf = (value: Line["values"][number] | undefined) =>
    value === undefined || value === null ? null : typeof value === "object" ? textOf(value) : value;
  const head = (name: string, figure: boolean, width = "minmax(max-content, 1fr)"): Head => ({ name, figure, width });
  const moments = answer.moments ?? [];
  const hasMoments = show.form === "moment" && moments.length > 1;
  if (hasMoments || (show.form === "windows" && answer.windows.starts.length > 1)) {
    const starts = hasMoments ? moments : answer.windows.starts;
    const { partial } = answer.windows;
    const time = clock(answer.zone, starts);
    const cut = new Set(partial);
    const filled = lines.map((line) => new Set(line.filled ?? []));
    const lacks = lines.map((line) => new Set(line.partial ?? []));
    const rows = starts.map((start, i): Row => {
      const note = cut.has(i) ? "partial" : undefined;
      const mark = (at: number) =>
        filled[at]?.has(i) ? " (filled)" : !cut.has(i) && lacks[at]?.has(i) ? " (partial)" : "";
      const cells = lines.map((line, at) => textOf(line.values[i]) + mark(at));
      return {
        key: start,
        exact: start,
        sort: [millis(start), ...lines.map((line) => sortOf(line.values[i]))],
        cells: [time(start), ...cells],
        ...(note === undefined ? {} : { note }),
      };
    });
    const columns = lines.map((line) => head(names.get(lineKey(line)) ?? "", true, "minmax(96px, 1fr)"));
    return { columns: [head(hasMoments ? "at" : "window from", false, "220px"), ...columns], rows };
  }
  if (show.form === "points") {
    const points = lines.flatMap((line) =>
      timesOf(line).map((time, i) => ({ time, name: names.get(lineKey(line)) ?? "", value: line.values[i] })),
    );
    const time = clock(
      answer.zone,
      points.slice(0, 1_000).map((point) => point.time),
    );
    const rows = points.map(({ time: at, name, value }): Row => ({
      key: `${name} ${at}`,
      exact: at,
      sort: [millis(at), name, sortOf(value)],
      cells: [time(at), name, textOf(value)],
    }));
    return { columns: [head("time", false, "220px"), head("series", false), head("value", true)], rows };
  }
  // One value a line: a row for each, its tags beside it.
  const keys = [...new Set(show.lines.flatMap(({ tags }) => Object.keys(tags)))].toSorted();
  const times = lines.flatMap((line) => (show.form === "moment" ? timesOf(line).slice(0, 1) : []));
  const time = clock(answer.zone, times);
  const rows = lines.map((line): Row => {
    const tags = keys.map((key) => line.tags[key] ?? "");
    const at = show.form === "moment" ? timesOf(line)[0] : undefined;
    const of = times.length > 0 ? [at === undefined ? "" : time(at)] : [];
    return {
      key: lineKey(line),
      sort: [...tags, sortOf(line.values[0]), ...(times.length > 0 ? [at === undefined ? null : millis(at)] : [])],
      cells: [...tags, textOf(line.values[0]), ...of],
    };
  });
  const tagColumns = keys.map((key) => head(key, false));
  return { columns: [...tagColumns, head("value", true), ...(times.length > 0 ? [head("of", false)] : [])], rows };
}
