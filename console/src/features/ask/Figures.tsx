/** A few single values, large; of one line the latest, with where it came from. */
import styled from "styled-components";

import type { Show } from "../../api/types";
import { decimals, figure } from "../../format/numbers";
import { Faint } from "../../ui/parts";
import { unitText } from "../../format/units";

/** More would be a table. */
const MOST = 8;

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 8px 32px;
  margin: 8px 0;
  strong {
    display: block;
    font-size: 26px;
    line-height: 32px;
    font-weight: 600;
    font-variant-numeric: tabular-nums;
  }
`;

export function Figures({ show, names }: { show: Show; names: string[] }) {
  const single = show.lines.every(({ values }) => values.length === 1);
  if (show.form === "points" || show.lines.length === 0) return null;
  if (single && show.lines.length <= MOST) {
    const values = show.lines.map(({ values: [value] }) => value ?? null);
    const places = decimals(values.filter((value) => typeof value === "number"));
    return (
      <Row>
        {values.map((value, i) => (
          <div key={names[i]}>
            <strong>
              {typeof value === "number" ? figure(value, places) : typeof value === "string" ? value : "–"}
            </strong>
            <Faint>{[names[i] === "all" ? "" : names[i], unitText(show.unit)].filter(Boolean).join(" · ")}</Faint>
          </div>
        ))}
      </Row>
    );
  }
  return show.lines.length === 1 && show.form === "windows" ? <Trend show={show} /> : null;
}

/** The latest value of one line, and how far it is from the one before and from the first. */
function Trend({ show }: { show: Show }) {
  const numbers = (show.lines[0]?.values ?? []).filter((value) => typeof value === "number");
  const [first] = numbers;
  const last = numbers.at(-1);
  const before = numbers.at(-2);
  if (first === undefined || last === undefined || before === undefined) return null;
  const places = decimals(numbers);
  const change = (from: number): string => {
    const step = last - from;
    return `${step > 0 ? "▲" : step < 0 ? "▼" : "="} ${figure(Math.abs(step), places)}`;
  };
  return (
    <Row>
      <div>
        <strong>{figure(last, places)}</strong>
        <Faint>
          latest{show.unit ? ` · ${unitText(show.unit)}` : ""} · {change(before)} since the window before ·{" "}
          {change(first)} since the first
        </Faint>
      </div>
    </Row>
  );
}
