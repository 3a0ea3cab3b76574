import { expect, it } from "vitest";

import { tagDefinitionOf, tagFormOf } from "./tagDefinition";

it("a form that was not touched says the same", () => {
  const definition = {
    description: "A lock",
    required: true,
    allowed: ["osier", "marl"],
    pattern: "[a-z]+",
    max_values: 12,
  };
  expect(tagDefinitionOf(tagFormOf(definition))).toEqual(definition);
  expect(tagDefinitionOf(tagFormOf(undefined))).toEqual({ description: "", required: false, allowed: [] });
});
