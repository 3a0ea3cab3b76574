/** A tag's definition as the texts of a form, and back. */
import type { TagDefinition } from "../../api/types";

export interface TagForm {
  description: string;
  required: boolean;
  allowed: string;
  pattern: string;
  mostValues: string;
}

export const tagFormOf = (definition: TagDefinition | undefined): TagForm => ({
  description: definition?.description ?? "",
  required: definition?.required ?? false,
  allowed: (definition?.allowed ?? []).join(", "),
  pattern: definition?.pattern ?? "",
  mostValues: definition?.max_values?.toString() ?? "",
});

/** What the form says; what is empty says nothing. What is no number is sent as it is, and the service says what is wrong. */
export function tagDefinitionOf(form: TagForm): TagDefinition {
  const allowed = form.allowed.split(",").map((value) => value.trim());
  const most = form.mostValues.trim();
  return {
    description: form.description.trim(),
    required: form.required,
    allowed: allowed.filter((value) => value !== ""),
    ...(form.pattern.trim() === "" ? {} : { pattern: form.pattern.trim() }),
    ...(most === "" ? {} : { max_values: /^\d+$/.test(most) ? Number(most) : (most as unknown as number) }),
  };
}
