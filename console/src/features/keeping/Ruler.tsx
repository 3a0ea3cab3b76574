/** How long what is kept in which fineness: a band each for points and levels, from now into the past on a bent scale. */
import styled, { useTheme } from "styled-components";

import type { Level, Place } from "../../api/types";
import { ago } from "../../format/times";
import { bandsOf } from "./bands";
import { bentScale, spanMs } from "./scale";

const WIDTH = 1100;
const NAMES = 130;
const NOTES = 250;
const ROW = 30;
const HEAD = 26;

const Frame = styled.div`
  overflow-x: auto;
  svg {
    display: block;
    min-width: 900px;
  }
  text {
    font-size: 13px;
    fill: ${({ theme }) => theme.ink};
  }
  text.faint {
    fill: ${({ theme }) => theme.faint};
  }
`;

interface Props {
  place: Place;
  levels: readonly Level[];
  /** Metrics that are kept for another time than the dataset. */
  exceptions: readonly Place[];
  now: number;
}

export function Ruler({ place, levels, exceptions, now }: Props) {
  const theme = useTheme();
  const bands = bandsOf(place, levels, now);
  const scale = bentScale(bands.flatMap((band) => [band.oldest ?? 0, band.limit]));
  const inner = WIDTH - NAMES - NOTES;
  const x = (ageMs: number): number => NAMES + inner * (1 - scale.at(ageMs));
  const height = HEAD + bands.length * ROW + 24;
  const oldest = Math.max(0, ...bands.map((band) => band.oldest ?? 0));
  const own = exceptions.map((metric) => ({
    name: `${metric.name.split("::")[1]}: ${metric.keep_for.text}`,
    limit: spanMs(metric.keep_for.limit),
  }));
  const summary = bands.map((band) => `${band.name}: ${band.note}, ${band.detail}`).join("; ");
  const besides = own.length === 0 ? "" : `; ${own.map(({ name }) => name).join("; ")}`;
  return (
    <Frame>
      <svg
        viewBox={`0 0 ${WIDTH} ${height}`}
        width="100%"
        role="img"
        aria-label={`${place.name}: ${summary}${besides}`}
      >
        <defs>
          <pattern id="coming" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="6" height="6" fill={theme.sheet} />
            <line x1="0" y1="0" x2="0" y2="6" stroke={theme.rule} strokeWidth="3" />
          </pattern>
        </defs>
        {scale.ticks.map(({ ageMs, name }) => (
          <g key={name}>
            <line x1={x(ageMs)} x2={x(ageMs)} y1={HEAD - 6} y2={height - 22} stroke={theme.rule} />
            <text className="faint" x={x(ageMs)} y={14} textAnchor="middle">
              {name}
            </text>
          </g>
        ))}
        <text className="faint" x={x(0)} y={14} textAnchor="middle">
          now
        </text>
        {bands.map((band, i) => {
          const y = HEAD + i * ROW;
          const held = band.oldest ?? band.newest;
          const left = Number.isFinite(band.limit) ? x(band.limit) : NAMES;
          return (
            <g key={band.name}>
              <title>{`${band.name}: ${band.note}; ${band.detail}`}</title>
              <text x={0} y={y + 19}>
                {band.name}
              </text>
              <rect
                x={left}
                width={Math.max(0, x(held) - left)}
                y={y + 5}
                height={18}
                fill="url(#coming)"
                stroke={theme.rule}
              />
              <rect
                x={x(held)}
                width={Math.max(0, x(band.newest) - x(held))}
                y={y + 5}
                height={18}
                fill={i === 0 ? theme.water : (theme.lines[i - 1] ?? theme.water)}
                opacity={i === 0 ? 1 : 0.75}
              />
              {Number.isFinite(band.limit) ? (
                <line x1={left} x2={left} y1={y + 1} y2={y + 27} stroke={theme.ink} strokeWidth={2} />
              ) : (
                <text className="faint" x={NAMES + 4} y={y + 19}>
                  ◂
                </text>
              )}
              <text x={WIDTH - NOTES + 16} y={y + 19}>
                {band.note}
              </text>
            </g>
          );
        })}
        {own.map(({ name, limit }) => (
          <g key={name}>
            <title>{name}</title>
            <path d={`M ${x(limit) - 5} ${HEAD - 3} h 10 l -5 8 z`} fill={theme.brass} stroke={theme.sheet} />
          </g>
        ))}
        {oldest > 0 && (
          <g>
            <line
              x1={x(oldest)}
              x2={x(oldest)}
              y1={HEAD - 2}
              y2={height - 20}
              stroke={theme.brass}
              strokeDasharray="3 3"
            />
            <text x={x(oldest)} y={height - 6} textAnchor="middle">
              oldest, {ago(new Date(now - oldest).toISOString(), now)}
            </text>
          </g>
        )}
      </svg>
    </Frame>
  );
}
