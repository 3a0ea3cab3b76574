/** The differences between two values of a change, in one line. */

const text = (value: unknown): string => {
  if (value === null || value === undefined) return "–";
  if (Array.isArray(value) && value.every((item) => typeof item === "string")) return value.join(", ");
  return typeof value === "string" ? value : JSON.stringify(value);
};

const isObject = (value: unknown): value is Record<string, unknown> =>
  typeof value === "object" && value !== null && !Array.isArray(value);

const isNothing = (value: unknown): boolean => value === null || value === undefined;

export function difference(before: unknown, after: unknown): string {
  if (isNothing(before) && isNothing(after)) return "";
  if ((isNothing(before) || isObject(before)) && (isNothing(after) || isObject(after))) {
    const old = isObject(before) ? before : {};
    const now = isObject(after) ? after : {};
    const names = [...new Set([...Object.keys(old), ...Object.keys(now)])].sort();
    const differ = names.filter((name) => JSON.stringify(old[name] ?? null) !== JSON.stringify(now[name] ?? null));
    return differ
      .map((name) => {
        if (isNothing(after)) return `${name} was ${text(old[name])}`;
        return isNothing(old[name])
          ? `${name}: ${text(now[name])}`
          : `${name}: ${text(old[name])} → ${text(now[name])}`;
      })
      .join("; ");
  }
  if (isNothing(before)) return text(after);
  return isNothing(after) ? `was ${text(before)}` : `${text(before)} → ${text(after)}`;
}
