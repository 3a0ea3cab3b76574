/** The bent scale of the ruler: ages on a logarithm, so that an hour and a year both have room. */

const HOUR = 3_600_000;
const DAY = 24 * HOUR;

export interface Scale {
  /** Where an age lies, from 0 at now to 1 at the far end. */
  at: (ageMs: number) => number;
  /** Ages that are marked, with their names. */
  ticks: { ageMs: number; name: string }[];
}

const TICKS: [number, string][] = [
  [HOUR, "1 h"],
  [6 * HOUR, "6 h"],
  [DAY, "1 day"],
  [7 * DAY, "1 week"],
  [30 * DAY, "1 month"],
  [91 * DAY, "3 months"],
  [365 * DAY, "1 year"],
  [730 * DAY, "2 years"],
  [1826 * DAY, "5 years"],
  [3652 * DAY, "10 years"],
];

/** A scale that reaches over all of some ages, and a little beyond. */
export function bentScale(ages: readonly number[]): Scale {
  const far = Math.max(30 * DAY, ...ages.filter(Number.isFinite)) * 1.4;
  const bend = (ageMs: number): number => Math.log1p(Math.max(0, ageMs) / HOUR);
  const at = (ageMs: number): number => Math.min(1, bend(ageMs) / bend(far));
  // Names that would touch each other are left out, the nearer of two stays.
  const ticks: { ageMs: number; name: string }[] = [];
  for (const [ageMs, name] of TICKS) {
    if (ageMs < far && at(ageMs) - at(ticks.at(-1)?.ageMs ?? 0) > 0.075) ticks.push({ ageMs, name });
  }
  return { at, ticks };
}

/** Milliseconds of a span such as `90d` or `1h30m`, months as 30 days; infinite for none. */
export function spanMs(span: string | null | undefined): number {
  if (span === null || span === undefined) return Infinity;
  const units: Record<string, number> = {
    ms: 1,
    s: 1_000,
    m: 60_000,
    h: HOUR,
    d: DAY,
    w: 7 * DAY,
    mo: 30.4 * DAY,
    y: 365.25 * DAY,
  };
  return [...span.matchAll(/(\d+)(mo|ms|[smhdwy])/g)].reduce(
    (sum, [, number, unit]) => sum + Number(number) * (units[unit ?? ""] ?? 0),
    0,
  );
}
