import type { Histogram, Value } from "../api/types";

/** Numbers and sizes with as many digits as they deserve. */

const grouped = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 0 });

export const count = (number: number): string => grouped.format(number);

/** 2,755,359 becomes 2.76 M. */
export function short(number: number): string {
  return scaled(number, 1000, ["", " k", " M", " G", " T"]);
}

/** 15012345 becomes 15.0 MB. */
export function bytes(number: number): string {
  return scaled(number, 1000, [" B", " kB", " MB", " GB", " TB"]);
}

function scaled(number: number, step: number, units: string[]): string {
  let amount = number;
  let unit = 0;
  while (Math.abs(amount) >= step && unit + 1 < units.length) {
    amount /= step;
    unit += 1;
  }
  const digits =
    unit === 0 ? (Number.isInteger(amount) ? 0 : 1) : Math.abs(amount) < 10 ? 2 : Math.abs(amount) < 100 ? 1 : 0;
  return `${amount.toFixed(digits)}${units[unit] ?? ""}`;
}

const MOST_DECIMALS = 12;

/** Decimals that these numbers deserve when they stand under each other: as many as they have, about five digits in all. */
export function decimals(numbers: Iterable<number>): number {
  let largest = 0;
  let needed = 0;
  for (const number of numbers) {
    largest = Math.max(largest, Math.abs(number));
    while (needed < MOST_DECIMALS && !isRound(number * 10 ** needed)) needed += 1;
  }
  if (largest > 0 && largest < 1) return Math.min(needed, 3 - Math.floor(Math.log10(largest)));
  return Math.min(needed, largest >= 10_000 ? 1 : largest >= 100 ? 2 : 3);
}

const isRound = (number: number): boolean =>
  Math.abs(number - Math.round(number)) < 1e-9 * Math.max(Math.abs(number), 1e-3);

export function figure(number: number, places: number): string {
  if (Math.abs(number) >= 1e15) return number.toExponential();
  return number.toLocaleString("en-GB", { minimumFractionDigits: places, maximumFractionDigits: places });
}

/** A value as people read it; nothing is a dash. */
export function tell(value: Value | null | undefined, places: number): string {
  if (value === null || value === undefined) return "–";
  if (typeof value === "number") return figure(value, places);
  return typeof value === "string" ? value : histogramText(value);
}

/** How many, their mean, and the buckets that hold any. */
function histogramText({ bounds, counts, sum }: Histogram): string {
  const count = counts.reduce((all, one) => all + one, 0);
  const bucket = (one: number, i: number): string[] => {
    if (one === 0) return [];
    const bound = bounds[i];
    return [bound === undefined ? `>${bounds.at(-1) ?? "all"}:${one}` : `≤${bound}:${one}`];
  };
  const mean = count > 0 ? [`mean=${(sum / count).toPrecision(4)}`] : [];
  return [`n=${count}`, ...mean, ...counts.flatMap(bucket)].join(" ");
}
