/** What a table of definitions would change, as lines and in a sentence. */
import type { Differences } from "../../api/types";
import { count } from "../../format/numbers";

export interface Line {
  metric: string;
  field: string;
  before: string;
  after: string;
}

const shown = (text: string): string => (text === "" ? "nothing" : text);

export const changesOf = ({ new: made, changed }: Differences): Line[] => [
  ...made.map((metric) => ({ metric, field: "is new", before: "–", after: "as the table has it" })),
  ...changed.map(({ metric, field, before, after }) => ({ metric, field, before: shown(before), after: shown(after) })),
];

export function summaryOf({ new: made, changed, same, applied }: Differences, file: string): string {
  const metrics = new Set(changed.map(({ metric }) => metric)).size;
  if (made.length + metrics === 0) return `${file} says what is known already.`;
  const parts = [
    made.length > 0 && `${count(made.length)} new`,
    metrics > 0 && `${count(metrics)} changed`,
    `${count(same)} as they are`,
  ];
  const text = parts.filter(Boolean).join(", ");
  return applied
    ? `Applied ${file}: ${text}.`
    : `${file} would change this: ${text}. All of it is applied, or nothing.`;
}
