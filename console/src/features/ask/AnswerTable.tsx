/** The same values as the chart, as a table. */
import type { Answer, Line, Show } from "../../api/types";
import { decimals, tell } from "../../format/numbers";
import { clock } from "../../format/times";
import { Faint, PlainTable, TableFrame } from "../../ui/parts";
import { lineKey } from "./chartData";

/** Rows that are put on the page; the service gives all of them as CSV. */
const MOST_ROWS = 1_000;

interface Props {
  answer: Answer;
  show: Show;
  names: Map<string, string>;
  lines: Line[];
}

export function AnswerTable(props: Props) {
  const numbers = props.show.lines.flatMap((line) => line.values.filter((value) => typeof value === "number"));
  const places = decimals(numbers);
  const told = (value: Line["values"][number] | undefined): string => tell(value, places);
  return props.show.form === "windows" ? <WindowTable {...props} told={told} /> : <PointTable {...props} told={told} />;
}

type Told = (value: Line["values"][number] | undefined) => string;

function WindowTable({ answer, show, names, lines, told }: Props & { told: Told }) {
  const { starts, partial } = answer.windows;
  const tell = clock(answer.zone, starts);
  const cut = new Set(partial);
  return (
    <TableFrame $height={360} tabIndex={0} role="region" aria-label={`Table of ${show.label}`}>
      <PlainTable>
        <thead>
          <tr>
            <th>window from</th>
            {lines.map((line) => (
              <th key={lineKey(line.tags)} className="figure">
                {names.get(lineKey(line.tags))}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {starts.slice(0, MOST_ROWS).map((start, i) => (
            <tr key={start}>
              <td title={start}>
                {tell(start)} {cut.has(i) && <Faint>partial</Faint>}
              </td>
              {lines.map((line) => (
                <td key={lineKey(line.tags)} className="figure">
                  {told(line.values[i])}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </PlainTable>
      <Rest shown={Math.min(starts.length, MOST_ROWS)} all={starts.length} />
    </TableFrame>
  );
}

function PointTable({ answer, show, names, lines, told }: Props & { told: Told }) {
  const points = lines.flatMap((line) =>
    (line.times ?? []).map((time, i) => ({ time, name: names.get(lineKey(line.tags)) ?? "", value: line.values[i] })),
  );
  const shown = points.slice(0, MOST_ROWS);
  const tell = clock(
    answer.zone,
    shown.map(({ time }) => time),
  );
  return (
    <TableFrame $height={360} tabIndex={0} role="region" aria-label={`Table of ${show.label}`}>
      <PlainTable>
        <thead>
          <tr>
            <th>time</th>
            <th>series</th>
            <th className="figure">value</th>
          </tr>
        </thead>
        <tbody>
          {shown.map(({ time, name, value }) => (
            <tr key={`${name} ${time}`}>
              <td title={time}>{tell(time)}</td>
              <td>{name}</td>
              <td className="figure">{told(value)}</td>
            </tr>
          ))}
        </tbody>
      </PlainTable>
      <Rest shown={shown.length} all={points.length} />
    </TableFrame>
  );
}

function Rest({ shown, all }: { shown: number; all: number }) {
  if (shown >= all) return null;
  return (
    <p style={{ padding: "4px 12px" }}>
      <Faint>
        {shown} of {all} rows: ask for a shorter time or wider windows, or take all of them as CSV from the command
        line.
      </Faint>
    </p>
  );
}
