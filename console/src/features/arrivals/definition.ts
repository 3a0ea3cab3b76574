/** The definition of a source: TOML text, and the value that a form edits. */
import { parse, stringify } from "smol-toml";

/** A table of TOML: what a definition consists of. */
export type Table = Record<string, unknown>;

/** A definition that is being written. */
export interface Draft {
  name: string;
  text: string;
}

/** Where a value is: the keys from the outside in. */
export type Path = readonly [string, ...string[]];

export function isTable(value: unknown): value is Table {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

/** A definition as a value; undefined if the text cannot be read as TOML or JSON. */
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

/** The value at a place. */
export function at(table: Table, path: Path): unknown {
  return path.reduce<unknown>((inner, key) => (isTable(inner) ? inner[key] : undefined), table);
}

/** The same definition with another value at a place; undefined, an empty text and an empty table remove the key. */
export function put(table: Table, [key, ...rest]: Path, value: unknown): Table {
  const [next, ...others] = rest;
  const inner = table[key];
  const put_ = next === undefined ? value : put(isTable(inner) ? inner : {}, [next, ...others], value);
  const { [key]: _, ...without } = table;
  if (put_ === undefined || put_ === "" || (isTable(put_) && Object.keys(put_).length === 0)) return without;
  // The order of keys is the order in which they were written.
  return key in table
    ? Object.fromEntries(Object.entries(table).map(([known, old]) => [known, known === key ? put_ : old]))
    : { ...table, [key]: put_ };
}

/** Tags as they are typed: `lock=osier side=up`. */
export function tagText(tags: unknown): string {
  return isTable(tags)
    ? Object.entries(tags)
        .map(([key, value]) => `${key}=${String(value)}`)
        .join(" ")
    : "";
}

/** The tags of a text; undefined if it is none of such, or not finished. */
export function tagsOf(text: string): Table | undefined {
  const parts = text.split(/\s+/).filter((part) => part !== "");
  const pairs = parts.map((part) => [part.slice(0, part.indexOf("=")), part.slice(part.indexOf("=") + 1)] as const);
  const isWhole = parts.every((part) => part.indexOf("=") > 0 && !part.endsWith("="));
  return isWhole ? Object.fromEntries(pairs) : undefined;
}

/** A number if the text is one, otherwise the text, which the service will refuse with a reason. */
export function numberOf(text: string): number | string {
  const number = Number(text);
  return text.trim() !== "" && Number.isFinite(number) ? number : text;
}
