/** A mapping as the wizard edits it: a choice for each column, and options for the whole table. */
import type { GuessQuestion, ImportLook, Mapping, MappingColumn, Role } from "../../api/types";

export const ROLES = ["time", "time of day", "tag", "value", "state", "histogram", "metric", "unit", "skip"] as const;
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

/** Options for the whole table. */
export interface Whole {
  zone: string;
  /** Time format; as guessed, where it is empty. */
  format: string;
  /** Tags of every row: `key=value`, with blanks between them. */
  constants: string;
  /** Rows get the time of arrival. */
  untimed: boolean;
}

export const wholeOf = ({ guess }: ImportLook): Whole => ({
  zone: guess.mapping.time?.zone ?? "",
  format: guess.mapping.time?.format ?? "",
  constants: "",
  untimed: false,
});

/** The choices that a guess proposes. */
export function choicesOf(look: ImportLook): ColumnChoice[] {
  const { mapping, reasons } = look.guess;
  return look.names.map((column) => {
    const known = mapping.columns?.find((one) => one.column === column);
    const why = reasons.find((reason) => reason.column === column)?.why ?? "";
    return { column, role: roleOf(column, mapping, known), name: known?.name ?? "", unit: known?.unit ?? "", why };
  });
}

function roleOf(column: string, { time }: Mapping, known: MappingColumn | undefined): Choice {
  if (time?.column === column) return "time";
  if (time?.time_of_day === column) return "time of day";
  return known?.role ?? "skip";
}

/** The mapping that the choices make of a guess. */
export function mappingOf(guess: Mapping, choices: readonly ColumnChoice[], whole: Whole): Mapping {
  const columns = choices.flatMap(({ column, role, name, unit }): MappingColumn[] => {
    if (role === "time" || role === "time of day" || role === "skip") return [];
    const known = guess.columns?.find((one) => one.column === column);
    const own: MappingColumn = { column, role: role satisfies Role };
    if (name.trim() !== "") own.name = name.trim();
    if (role === "value" && unit.trim() !== "") own.unit = unit.trim();
    if (role === "value" && known?.kind) own.kind = known.kind;
    return [own];
  });
  const of = (role: Choice) => choices.find((choice) => choice.role === role)?.column;
  const [column, timeOfDay] = [of("time"), of("time of day")];
  // How the times are written was guessed of one column; another one may be written otherwise.
  const { time_of_day: _, ...guessed } = column === guess.time?.column ? (guess.time ?? {}) : {};
  const time: NonNullable<Mapping["time"]> = { ...guessed, ...(column ? { column } : {}) };
  if (column && timeOfDay) time.time_of_day = timeOfDay;
  if (whole.zone.trim() !== "") time.zone = whole.zone.trim();
  if (whole.format.trim() !== "" && whole.format.trim() !== guess.time?.format) time.format = whole.format.trim();
  const mapping: Mapping = { ...guess, columns, time };
  const tags = whole.constants
    .split(/\s+/)
    .map((constant) => constant.split("="))
    .filter((parts): parts is [string, string] => parts.length === 2 && parts.every((part) => part !== ""));
  if (tags.length > 0) mapping.tags = Object.fromEntries(tags);
  return mapping;
}

/** What is not answered yet of a guess's questions. */
export function openQuestions(look: ImportLook, mapping: Mapping, whole: Whole): GuessQuestion[] {
  return (look.guess.questions ?? []).filter(({ about, column }) =>
    about === "time_column"
      ? mapping.time?.column === undefined && !whole.untimed
      : mapping.time?.column === column && mapping.time?.format === undefined,
  );
}
