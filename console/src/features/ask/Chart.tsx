/** Lines over time, the windows drawn as panes. Alone touches the chart library. */
import { useEffect, useRef } from "react";
import styled, { useTheme } from "styled-components";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

import type { Theme } from "../../frame/theme";
import { decimals, figure } from "../../format/numbers";
import { unitText } from "../../format/units";
import type { ChartData } from "./chartData";

const HEIGHT = 300;
/** Panes narrower than this many CSS pixels would only shimmer. */
const NARROWEST_PANE = 5;
const DASHES = [[], [6, 3], [2, 3], [10, 3, 2, 3]];

const Frame = styled.div`
  .u-select {
    background: ${({ theme }) => theme.water};
    opacity: 0.2;
  }
  .u-cursor-x,
  .u-cursor-y {
    border-color: ${({ theme }) => theme.faint} !important;
  }
`;

interface Props {
  data: ChartData;
  /** The index of each shown line among all, which decides its colour and dash. */
  styles: number[];
  /** From and to of the frame, in seconds. */
  range: [number, number];
  zone: string;
  /** The unit of each line: those of the first stand on the left, those of another on the right. */
  units: (string | null)[];
  label: string;
  onZoom: (fromSeconds: number, toSeconds: number) => void;
  onPoint: (index: number | null) => void;
}

export function Chart({ data, styles, range, zone, units, label, onZoom, onPoint }: Props) {
  const theme = useTheme();
  const place = useRef<HTMLDivElement>(null);
  const handlers = useRef({ onZoom, onPoint });
  useEffect(() => {
    handlers.current = { onZoom, onPoint };
  });

  useEffect(() => {
    const element = place.current;
    if (!element) return;
    const began = performance.now();
    let drawn = false;
    const few = data.xs.length <= 60;
    const [unit = null, other] = [...new Set(units)];
    const valueAxis = (of: string | null, scale: string): uPlot.Axis => ({
      scale,
      side: scale === "y" ? 3 : 1,
      stroke: theme.faint,
      grid: { show: scale === "y", stroke: theme.rule, width: 1 },
      ticks: { stroke: theme.rule },
      size: 64,
      ...(of === null ? {} : { label: unitText(of), labelSize: 20 }),
      values: (_, splits) => splits.map((split) => figure(split, decimals(splits))),
    });
    const options: uPlot.Options = {
      width: element.clientWidth,
      height: HEIGHT,
      tzDate: (at) => uPlot.tzDate(new Date(at * 1000), zone),
      legend: { show: false },
      cursor: { drag: { x: true, y: false, setScale: false }, points: { size: 7 } },
      scales: { x: { time: true, range: () => range } },
      axes: [
        {
          stroke: theme.faint,
          grid: { stroke: theme.rule, width: 1 },
          ticks: { stroke: theme.rule },
          // Labels with seconds are longer than those with minutes.
          space: (_, __, from, to, width) => (((to - from) / width) * 50 < 60 ? 84 : 50),
          values: (_, splits) => timeLabels(splits, zone),
        },
        valueAxis(unit, "y"),
        ...(other === undefined ? [] : [valueAxis(other, "z")]),
      ],
      series: [
        {},
        ...data.columns.map((_, i) => {
          const style = styles[i] ?? i;
          return {
            scale: (units[i] ?? null) === unit ? "y" : "z",
            stroke: theme.lines[style % theme.lines.length] ?? theme.ink,
            width: 1.75,
            pxAlign: 0,
            dash: DASHES[Math.floor(style / theme.lines.length) % DASHES.length] ?? [],
            spanGaps: data.borders.length === 0,
            points: { show: few, size: 5, fill: theme.lines[style % theme.lines.length] ?? theme.ink },
          };
        }),
      ],
      hooks: {
        drawClear: [(plot) => drawPanes(plot, data, theme)],
        draw: [
          (plot) => drawFilled(plot, data, styles, theme),
          () => {
            if (!drawn) performance.measure("chart", { start: began, end: performance.now() });
            drawn = true;
          },
        ],
        setSelect: [
          (plot) => {
            const { left, width } = plot.select;
            if (width > 4) handlers.current.onZoom(plot.posToVal(left, "x"), plot.posToVal(left + width, "x"));
          },
        ],
        setCursor: [(plot) => handlers.current.onPoint(plot.cursor.idx ?? null)],
      },
    };
    const plot = new uPlot(options, [data.xs, ...data.columns] as uPlot.AlignedData, element);
    const observer = new ResizeObserver(() => {
      // The observer also reports the first size.
      if (plot.width !== element.clientWidth) plot.setSize({ width: element.clientWidth, height: HEIGHT });
    });
    observer.observe(element);
    return () => {
      observer.disconnect();
      plot.destroy();
    };
  }, [data, styles, range, zone, units, theme]);

  return <Frame ref={place} role="img" aria-label={label} />;
}

/** What was put into an empty window is hollow. */
function drawFilled(plot: uPlot, data: ChartData, styles: number[], theme: Theme) {
  const { ctx } = plot;
  ctx.save();
  ctx.lineWidth = 1.5 * devicePixelRatio;
  ctx.fillStyle = theme.sheet;
  for (const [column, filled] of data.filled.entries()) {
    const style = styles[column] ?? column;
    ctx.strokeStyle = theme.lines[style % theme.lines.length] ?? theme.ink;
    const scale = plot.series[column + 1]?.scale ?? "y";
    for (const at of filled) {
      const value = data.columns[column]?.[at];
      const x = data.xs[at];
      if (typeof value !== "number" || x === undefined) continue;
      ctx.beginPath();
      ctx.arc(plot.valToPos(x, "x", true), plot.valToPos(value, scale, true), 3 * devicePixelRatio, 0, 2 * Math.PI);
      ctx.fill();
      ctx.stroke();
    }
  }
  ctx.restore();
}

/** A thin alternating ground shows the windows' width; a partial window is hatched. */
function drawPanes(plot: uPlot, { borders, partial }: ChartData, theme: Theme) {
  const { ctx, bbox } = plot;
  if (borders.length < 2) return;
  const edge = (at: number) => Math.min(Math.max(plot.valToPos(at, "x", true), bbox.left), bbox.left + bbox.width);
  const narrow = bbox.width / (borders.length - 1) < NARROWEST_PANE * devicePixelRatio;
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  for (let i = 0; i + 1 < borders.length; i += 1) {
    const left = edge(borders[i] ?? 0);
    const right = edge(borders[i + 1] ?? 0);
    if (!narrow && i % 2 === 0) {
      ctx.fillStyle = theme.pane;
      ctx.fillRect(left, bbox.top, right - left, bbox.height);
    }
    if (partial.has(i)) hatch(ctx, left, right, bbox, theme.rule);
  }
  ctx.restore();
}

function hatch(ctx: CanvasRenderingContext2D, left: number, right: number, bbox: uPlot.BBox, colour: string) {
  ctx.save();
  ctx.beginPath();
  ctx.rect(left, bbox.top, right - left, bbox.height);
  ctx.clip();
  ctx.strokeStyle = colour;
  ctx.lineWidth = devicePixelRatio;
  const step = 8 * devicePixelRatio;
  for (let x = left - bbox.height; x < right; x += step) {
    ctx.beginPath();
    ctx.moveTo(x, bbox.top + bbox.height);
    ctx.lineTo(x + bbox.height, bbox.top);
    ctx.stroke();
  }
  ctx.restore();
}

/** The clock time, and the date where a new day begins. */
function timeLabels(splits: number[], zone: string): string[] {
  const format = (options: Intl.DateTimeFormatOptions) =>
    new Intl.DateTimeFormat("en-GB", { timeZone: zone, hourCycle: "h23", ...options });
  const step = (splits[1] ?? 0) - (splits[0] ?? 0);
  const day = format({ day: "numeric", month: "short" });
  const time = format({ hour: "2-digit", minute: "2-digit", ...(step > 0 && step < 60 ? { second: "2-digit" } : {}) });
  let before = "";
  return splits.map((split) => {
    const date = day.format(split * 1000);
    const changed = date !== before;
    before = date;
    if (step >= 86_400) return date;
    return changed ? `${time.format(split * 1000)}\n${date}` : time.format(split * 1000);
  });
}
