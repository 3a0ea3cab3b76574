/** Reads and edits the definition of a source, which is TOML text. */
import { parse, stringify } from "smol-toml";

/** A table of TOML. */
export type Table = Record<string, unknown>;

/** A definition that is being written. */
export interface Draft {
  name: string;
  text: string;
}

/** Path of a value: keys from the outermost table inwards. */
export type Path = readonly [string, ...string[]];

export function isTable(value: unknown): value is Table {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

/** Parses a definition; undefined if the text is neither TOML nor JSON. */
export function read(text: string): Table | undefined {
  try {
    const value: unknown = text.trimStart().startsWith("{") ? JSON.parse(text) : parse(text);
    return isTable(value) ? value : undefined;
  } catch {
    return undefined;
  }
}

/** A definition as TOML. */
export const write = (definition: Table): string => stringify(definition);

/** The value at a path. */
export function at(table: Table, path: Path): unknown {
  return path.reduce<unknown>((inner, key) => (isTable(inner) ? inner[key] : undefined), table);
}

/** Returns the definition with another value at a path. If the value is undefined, empty text or an empty table, the key is removed. */
export function put(table: Table, [key, ...rest]: Path, value: unknown): Table {
  const [next, ...others] = rest;
  const inner = table[key];
  const placed = next === undefined ? value : put(isTable(inner) ? inner : {}, [next, ...others], value);
  const { [key]: _, ...without } = table;
  if (placed === undefined || placed === "" || (isTable(placed) && Object.keys(placed).length === 0)) return without;
  // The order of the keys is preserved.
  return key in table
    ? Object.fromEntries(Object.entries(table).map(([known, old]) => [known, known === key ? placed : old]))
    : { ...table, [key]: placed };
}

/** Tags as text: `lock=osier side=up`. */
export function tagText(tags: unknown): string {
  return isTable(tags)
    ? Object.entries(tags)
        .map(([key, value]) => `${key}=${String(value)}`)
        .join(" ")
    : "";
}

/** Parses tags; undefined if the text is incomplete or invalid. */
export function tagsOf(text: string): Table | undefined {
  const parts = text.split(/\s+/).filter((part) => part !== "");
  const pairs = parts.map((part) => [part.slice(0, part.indexOf("=")), part.slice(part.indexOf("=") + 1)] as const);
  const isWhole = parts.every((part) => part.indexOf("=") > 0 && !part.endsWith("="));
  return isWhole ? Object.fromEntries(pairs) : undefined;
}

/** Parses a number. Any other text is returned unchanged; the service rejects it with a reason. */
export function numberOf(text: string): number | string {
  const number = Number(text);
  return text.trim() !== "" && Number.isFinite(number) ? number : text;
}
