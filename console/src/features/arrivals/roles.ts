/** A mapping as the wizard edits it: one choice for each column of the file. */
import type { ImportLook, Mapping, MappingColumn, Role } from "../../api/types";

export const ROLES = ["time", "tag", "value", "state", "metric", "skip"] as const;
export type Choice = (typeof ROLES)[number];

export interface ColumnChoice {
  column: string;
  role: Choice;
  /** Key of the tag or name of the metric. */
  name: string;
  unit: string;
  /** Why it was taken for that. */
  why: string;
}

/** The choices that a guess proposes. */
export function choicesOf(look: ImportLook): ColumnChoice[] {
  const { mapping, reasons } = look.guess;
  return look.names.map((column) => {
    const known = mapping.columns?.find((one) => one.column === column);
    const role: Choice = mapping.time?.column === column ? "time" : (known?.role ?? "skip");
    const why = reasons.find((reason) => reason.column === column)?.why ?? "";
    return { column, role, name: known?.name ?? "", unit: known?.unit ?? "", why };
  });
}

/** The mapping that the choices make of a guess; constants are written `key=value`, parted by spaces. */
export function mappingOf(guess: Mapping, choices: readonly ColumnChoice[], zone: string, constants: string): Mapping {
  const columns = choices.flatMap(({ column, role, name, unit }): MappingColumn[] => {
    if (role === "time" || role === "skip") return [];
    const known = guess.columns?.find((one) => one.column === column);
    const own: MappingColumn = { column, role: role as Role };
    if (name.trim() !== "") own.name = name.trim();
    if (role === "value" && unit.trim() !== "") own.unit = unit.trim();
    if (role === "value" && known?.kind) own.kind = known.kind;
    return [own];
  });
  const time = choices.find((choice) => choice.role === "time")?.column;
  // How the times are written was guessed of one column; another one may be written otherwise.
  const mapping: Mapping = {
    ...guess,
    columns,
    time: { ...(time === guess.time?.column ? guess.time : {}), ...(time ? { column: time } : {}) },
  };
  if (mapping.time && zone.trim() !== "") mapping.time.zone = zone.trim();
  const tags = constants
    .split(/\s+/)
    .map((constant) => constant.split("="))
    .filter((parts): parts is [string, string] => parts.length === 2 && parts.every((part) => part !== ""));
  if (tags.length > 0) mapping.tags = Object.fromEntries(tags);
  return mapping;
}
