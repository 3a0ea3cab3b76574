/** All shows in one chart: two units at the most, one on each side. */
import { useMemo, useState } from "react";
import styled, { useTheme } from "styled-components";

import type { Answer, Show } from "../../api/types";
import { decimals, figure } from "../../format/numbers";
import { millis } from "../../format/times";
import { Heading, Panel } from "../../ui/parts";
import { Chart } from "./Chart";
import { isDrawable, together } from "./chartData";
import { Mark } from "./Mark";

const Legend = styled.p`
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  margin: 8px 0 0;
`;

/** The shows that can share a chart, if at least two can. */
export function sharing(answer: Answer): Show[] {
  const drawable = answer.shows.filter((show) => show.form === "windows" && isDrawable(show));
  const units = [...new Set(drawable.map(({ unit }) => unit))].slice(0, 2);
  const shared = drawable.filter(({ unit }) => units.includes(unit));
  return shared.length > 1 && answer.windows.starts.length > 1 ? shared : [];
}

interface Props {
  answer: Answer;
  shows: Show[];
  onZoom: (fromSeconds: number, toSeconds: number) => void;
}

export function CombinedChart({ answer, shows, onZoom }: Props) {
  const theme = useTheme();
  const [pointed, setPointed] = useState<number | null>(null);
  const { data, units, names } = useMemo(() => together(answer, shows), [answer, shows]);
  const styles = useMemo(() => names.map((_, i) => i), [names]);
  const range = useMemo((): [number, number] => [millis(answer.from) / 1000, millis(answer.to) / 1000], [answer]);
  const labels = shows.map(({ label: name }) => name);
  const label = `${labels.join(" and ")}: ${names.length} lines in one chart`;
  return (
    <Panel aria-label="Combined chart">
      <Heading>Combined chart</Heading>
      <Chart
        data={data}
        styles={styles}
        range={range}
        zone={answer.zone}
        units={units}
        label={label}
        onZoom={onZoom}
        onPoint={setPointed}
      />
      <Legend>
        {names.map((name, i) => {
          const value = pointed === null ? undefined : data.columns[i]?.[pointed];
          const places = decimals((data.columns[i] ?? []).filter((one) => one !== null));
          return (
            <span key={name}>
              <Mark $colour={theme.lines[i % theme.lines.length] ?? theme.ink} />
              {name} {typeof value === "number" ? figure(value, places) : ""}
            </span>
          );
        })}
      </Legend>
    </Panel>
  );
}
