/** Fields of the form of a definition. */
import type { Path } from "./definition";

/** A field of the form, or a column of a table in it. */
export type Field =
  | {
      form: "text" | "number" | "tags" | "texts" | "secret";
      path: Path;
      label: string;
      example?: string;
      isWide?: true;
    }
  | { form: "choice"; path: Path; label: string; choices: readonly string[] }
  | { form: "rows"; path: Path; label: string; columns: readonly Field[] };

export const text = (path: string, label: string, example?: string): Field => ({
  form: "text",
  path: steps(path),
  label,
  ...(example === undefined ? {} : { example }),
});
export const wide = (path: string, label: string, example: string): Field => ({
  form: "text",
  path: steps(path),
  label,
  example,
  isWide: true,
});
export const number = (path: string, label: string): Field => ({ form: "number", path: steps(path), label });
export const tags = (path: string, label = "tags", example = "lock=osier"): Field => ({
  form: "tags",
  path: steps(path),
  label,
  example,
});
export const texts = (path: string, label: string, example: string): Field => ({
  form: "texts",
  path: steps(path),
  label,
  example,
});
export const secret = (path: string, label: string): Field => ({ form: "secret", path: steps(path), label });
/** The first choice is the default: it removes the key. */
export const choice = (path: string, label: string, choices: readonly string[]): Field => ({
  form: "choice",
  path: steps(path),
  label,
  choices,
});
export const rows = (path: string, label: string, columns: readonly Field[]): Field => ({
  form: "rows",
  path: steps(path),
  label,
  columns,
});

function steps(path: string): Path {
  const [first = "", ...rest] = path.split(".");
  return [first, ...rest];
}
