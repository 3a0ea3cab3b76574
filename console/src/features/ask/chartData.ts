/** An answer as columns for a chart, and definition in a sentence. Pure: no drawing here. */
import type { Answer, Line, Show } from "../../api/types";
import { decimals, figure } from "../../format/numbers";
import { millis } from "../../format/times";
import { unitText } from "../../format/units";

export interface ChartData {
  /** Seconds since the epoch, ascending. */
  xs: number[];
  /** For each line, a number or nothing beside each x. */
  columns: (number | null)[][];
  /** Borders of the windows in seconds; none where there are points, or one window. */
  borders: number[];
  /** Which windows the range cuts, or lack points in any line. */
  partial: Set<number>;
  /** For each line, which of its windows were empty and were filled. */
  filled: Set<number>[];
}

const seconds = (time: string): number => millis(time) / 1000;
const number = (value: Line["values"][number] | undefined): number | null => (typeof value === "number" ? value : null);

export function chartData({ windows, moments }: Answer, show: Show, hidden: ReadonlySet<string>): ChartData {
  const lines = show.lines.filter((line) => !hidden.has(lineKey(line)));
  const partial = new Set([...windows.partial, ...lines.flatMap((line) => line.partial ?? [])]);
  if (show.form === "windows") {
    const starts = windows.starts.map(seconds);
    const ends = windows.ends.map(seconds);
    const xs = starts.map((start, i) => (start + (ends[i] ?? start)) / 2);
    const last = ends.at(-1);
    const borders = last === undefined || starts.length < 2 ? [] : [...starts, last];
    const filled = lines.map((line) => new Set(line.filled ?? []));
    return { xs, columns: lines.map((line) => line.values.map(number)), borders, partial, filled };
  }
  if (show.form === "moment") {
    const columns = lines.map((line) => line.values.map(number));
    return { xs: (moments ?? []).map(seconds), columns, borders: [], partial, filled: lines.map(() => new Set()) };
  }
  const xs = [...new Set(lines.flatMap((line) => timesOf(line).map(seconds)))].toSorted((a, b) => a - b);
  const place = new Map(xs.map((x, i) => [x, i]));
  const columns = lines.map((line) => {
    const column: (number | null)[] = Array.from({ length: xs.length }, () => null);
    for (const [i, time] of timesOf(line).entries()) {
      const at = place.get(seconds(time));
      if (at !== undefined) column[at] = number(line.values[i]);
    }
    return column;
  });
  return { xs, columns, borders: [], partial: new Set(), filled: columns.map(() => new Set<number>()) };
}

/** Several shows under one frame as one chart: their lines side by side, each with its unit. */
export function together(
  answer: Answer,
  shows: Show[],
): { data: ChartData; units: (string | null)[]; names: string[] } {
  const all = shows.map((show) => chartData(answer, show, new Set()));
  const [first] = all;
  const data: ChartData = {
    xs: first?.xs ?? [],
    borders: first?.borders ?? [],
    partial: new Set(all.flatMap(({ partial }) => [...partial])),
    columns: all.flatMap(({ columns }) => columns),
    filled: all.flatMap(({ filled }) => filled),
  };
  const units = shows.flatMap((show) => show.lines.map(() => show.unit));
  const names = shows.flatMap((show) => lineNames(show.lines).names.map((name) => `${show.label}: ${name}`));
  return { data, units, names };
}

/** Values of each tag that tell the lines apart, for narrowing to one of them. */
export function choices(lines: readonly Line[]): { key: string; values: string[] }[] {
  const keys = [...new Set(lines.flatMap(({ tags }) => Object.keys(tags)))];
  return keys
    .map((key) => ({
      key,
      values: [...new Set(lines.map(({ tags }) => tags[key]).filter((value) => value !== undefined))],
    }))
    .filter(({ values }) => values.length > 1);
}

export const lineKey = ({ metric, tags }: Line): string => JSON.stringify(metric === undefined ? tags : [metric, tags]);

/** Times of points; none is missing. */
export const timesOf = ({ times }: Line): string[] => (times ?? []).filter((time) => time !== null);

/** What tells each line apart from the others, and what they share. */
export function lineNames(lines: readonly Line[]): { names: string[]; shared: string } {
  const [first] = lines;
  const common = new Set(
    lines.length < 2
      ? []
      : Object.entries(first?.tags ?? {})
          .filter(([key, value]) => lines.every(({ tags }) => tags[key] === value))
          .map(([key]) => key),
  );
  const several = lines.some(({ metric }) => metric !== first?.metric);
  const name = ({ metric, tags }: Line) => {
    const own = Object.entries(tags)
      .filter(([key]) => !common.has(key))
      .map(([, value]) => value);
    return [...(several && metric !== undefined ? [metric] : []), ...own].join(" ") || "all";
  };
  const shared = [...common].map((key) => `${key} ${first?.tags[key] ?? ""}`).join(", ");
  return { names: lines.map(name), shared };
}

export const isDrawable = (show: Show): boolean =>
  show.lines.some(({ values }) => values.some((value) => typeof value === "number"));

/** One sentence for whoever does not see the chart. */
export function summary(answer: Answer, show: Show): string {
  const numbers = show.lines.flatMap(({ values }) => values.filter((value) => typeof value === "number"));
  const many = (count: number, one: string, more: string) => `${count} ${count === 1 ? one : more}`;
  const what =
    show.form === "windows"
      ? many(answer.windows.starts.length, "window", "windows")
      : many(numbers.length, show.form === "points" ? "point" : "value", show.form === "points" ? "points" : "values");
  if (numbers.length === 0)
    return `${show.label}: ${many(show.lines.length, "line", "lines")} over ${what}, without a number`;
  const least = numbers.reduce((a, b) => Math.min(a, b));
  const greatest = numbers.reduce((a, b) => Math.max(a, b));
  const places = decimals([least, greatest]);
  return `${show.label}: ${many(show.lines.length, "line", "lines")} over ${what}, from ${figure(least, places)} to ${figure(greatest, places)}${show.unit ? ` ${unitText(show.unit)}` : ""}`;
}
