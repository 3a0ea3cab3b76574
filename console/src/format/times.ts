/** Times in words, in a named zone. Epoch numbers are never shown. */

export const millis = (time: string): number => Date.parse(time);

function formatter(zone: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  return new Intl.DateTimeFormat("en-GB", { timeZone: zone, hourCycle: "h23", ...options });
}

const DAY: Intl.DateTimeFormatOptions = { weekday: "short", day: "2-digit", month: "short" };
const MINUTE: Intl.DateTimeFormatOptions = { hour: "2-digit", minute: "2-digit" };

/** A function that tells times of one answer apart: to the day, the minute or the second, as they need it. */
export function clock(zone: string, times: readonly string[]): (time: string) => string {
  const inMinutes = times.every((time) => millis(time) % 60_000 === 0);
  const midnight = formatter(zone, { ...MINUTE, second: "2-digit" });
  const inDays = inMinutes && times.every((time) => midnight.format(millis(time)) === "00:00:00");
  const options = inDays
    ? { ...DAY, year: "numeric" as const }
    : { ...DAY, ...MINUTE, ...(inMinutes ? {} : { second: "2-digit" as const }) };
  const format = formatter(zone, options);
  return (time) => format.format(millis(time)).replaceAll(",", "");
}

/** The day of a time, as it is written in UTC. */
export const day = (time: string): string => time.slice(0, 10);

/** 42 s, 12 min, 3 h, 4 d. */
export function lasting(seconds: number): string {
  if (seconds < 120) return `${Math.round(seconds)} s`;
  if (seconds < 7_200) return `${Math.round(seconds / 60)} min`;
  return seconds < 172_800 ? `${Math.round(seconds / 3_600)} h` : `${Math.round(seconds / 86_400)} d`;
}

/** 5 s ago, 12 min ago, 3 h ago, 4 d ago. */
export function ago(time: string, now: number): string {
  const seconds = Math.round((now - millis(time)) / 1000);
  return seconds < 0 ? "in the future" : `${lasting(seconds)} ago`;
}

/** in 5 s, in 12 min, in 3 h, in 4 d; at once, if the time has passed. */
export function ahead(time: string, now: number): string {
  const seconds = Math.round((millis(time) - now) / 1000);
  return seconds <= 0 ? "at once" : `in ${lasting(seconds)}`;
}
