/** Trouble with series of a source, in words. */
import type { SeriesTrouble, SourceSeries, Trouble } from "../api/types";
import { count } from "./numbers";

/** The name of a kind of trouble. */
export const troubleName = (trouble: Trouble): string => (trouble === "clock_off" ? "clock off" : trouble);

/** The number of series for each kind of trouble: `1 series stuck`. */
export function troubles({ stale, stuck, clock_off: clockOff }: SourceSeries): string[] {
  const counts: [number, Trouble][] = [
    [stale, "stale"],
    [stuck, "stuck"],
    [clockOff, "clock_off"],
  ];
  return counts.flatMap(([of, trouble]) => (of > 0 ? [`${count(of)} series ${troubleName(trouble)}`] : []));
}

/** One trouble with its time. */
export function troubleText({ trouble, since }: SeriesTrouble): string {
  const when = since.slice(0, 19).replace("T", " ");
  switch (trouble) {
    case "stale":
      return `no point since ${when}`;
    case "stuck":
      return `the same value since ${when}`;
    case "clock_off":
      return `the clock is off: the time of the latest point is ${when}`;
  }
}
