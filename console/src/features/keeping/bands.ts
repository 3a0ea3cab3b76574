/** The bands of the ruler: how far back points and levels reach, and how far they are kept. */
import type { Level, Place } from "../../api/types";
import { bytes, count } from "../../format/numbers";
import { millis } from "../../format/times";
import { spanMs } from "./scale";

export interface Band {
  name: string;
  /** From how long ago it holds anything. */
  oldest: number | null;
  newest: number;
  /** How long it is kept. */
  limit: number;
  note: string;
  detail: string;
}

const keptFor = (span: string | null): string => (span === null ? "no age limit" : `kept for ${span}`);

/** The bands of a dataset: points first, then levels, the finest first. */
export function bandsOf(place: Place, levels: readonly Level[], now: number): Band[] {
  const age = (time: string | null): number | null => (time === null ? null : now - millis(time));
  const points: Band = {
    name: "points",
    oldest: age(place.oldest),
    newest: 0,
    limit: spanMs(place.keep_for.limit),
    note: `${keptFor(place.keep_for.limit)}, ${bytes(place.packed_bytes)}`,
    detail: place.keep_for.text,
  };
  const rolled = levels.map((level): Band => {
    const first = age(level.from) ?? (level.until === null ? null : (points.oldest ?? 0));
    return {
      name: `${level.width} rollup`,
      oldest: first,
      newest: age(level.until) ?? 0,
      limit: spanMs(level.keep_for),
      note: `${keptFor(level.keep_for)}, ${bytes(level.bytes)}`,
      detail: levelProgress(level),
    };
  });
  return [points, ...rolled];
}

/** Progress of a level; for a level without windows, what it is waiting for. */
export function levelProgress({ windows, waiting_points: waiting = 0, filled, series }: Level): string {
  if (series === 0) return "no points yet";
  if (windows === 0 && waiting > 0)
    return `waiting for ${count(waiting)} ${waiting === 1 ? "point" : "points"} to be packed`;
  return `${Math.round(filled * 100)}% filled`;
}
