import { expect, it } from "vitest";

import { changesOf, summaryOf } from "./differences";

const some = {
  new: ["flow"],
  changed: [
    { metric: "level", field: "unit", before: "", after: "cm" },
    { metric: "level", field: "description", before: "Water", after: "" },
  ],
  same: 1_200,
  applied: false,
};

it("a line for each thing that would differ, with words where there is nothing", () => {
  expect(changesOf(some).map(({ before, after }) => `${before} > ${after}`)).toEqual([
    "– > as the table has it",
    "nothing > cm",
    "Water > nothing",
  ]);
});

it("a sentence counts metrics, not lines", () => {
  expect(summaryOf(some, "m.csv")).toBe(
    "m.csv would change this: 1 new, 1 changed, 1,200 as they are. All of it is applied, or nothing.",
  );
  expect(summaryOf({ ...some, applied: true }, "m.csv")).toMatch(/^Applied m.csv/);
  expect(summaryOf({ new: [], changed: [], same: 3, applied: false }, "m.csv")).toBe(
    "m.csv says what is known already.",
  );
});
