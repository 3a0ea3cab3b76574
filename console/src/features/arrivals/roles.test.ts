import { describe, expect, it } from "vitest";

import type { ImportLook } from "../../api/types";
import { choicesOf, mappingOf, openQuestions, wholeOf } from "./roles";

const look: ImportLook = {
  names: ["at", "lock", "level_cm", "note"],
  rows: [],
  notes: [],
  guess: {
    mapping: {
      missing: ["NA"],
      time: { column: "at", format: "s" },
      columns: [
        { column: "lock", role: "tag" },
        { column: "level_cm", role: "value", name: "level", unit: "cm", kind: "gauge" },
      ],
    },
    reasons: [{ column: "note", taken_for: "skip", why: "a different text in nearly every row" }],
    questions: [],
    notes: [],
  },
};

describe("roles of columns", () => {
  it("begin as the guess has them, and give it back", () => {
    const choices = choicesOf(look);
    expect(choices.map(({ role }) => role)).toEqual(["time", "tag", "value", "skip"]);
    expect(choices[3]?.why).toContain("different text");
    expect(mappingOf(look.guess.mapping, choices, wholeOf(look))).toEqual(look.guess.mapping);
  });

  it("change the mapping", () => {
    const choices = choicesOf(look).map((choice) =>
      choice.column === "note" ? { ...choice, role: "state" as const, name: "remark" } : choice,
    );
    const mapping = mappingOf(look.guess.mapping, choices, {
      ...wholeOf(look),
      zone: "Europe/Lisbon",
      constants: "reach=upper nonsense x=",
    });
    expect(mapping.columns?.at(-1)).toEqual({ column: "note", role: "state", name: "remark" });
    expect(mapping.time).toEqual({ column: "at", format: "s", zone: "Europe/Lisbon" });
    expect(mapping.tags).toEqual({ reach: "upper" });
    const untimed = choices.map((choice) => (choice.role === "time" ? { ...choice, role: "skip" as const } : choice));
    expect(mappingOf(look.guess.mapping, untimed, { ...wholeOf(look), format: "" }).time).toEqual({});
  });

  it("ask what the rows leave open until it is answered", () => {
    const question = { about: "date_order" as const, column: "at", text: "day or month first?", choices: ["%d/%m/%Y"] };
    const unsure: ImportLook = {
      ...look,
      guess: { ...look.guess, mapping: { ...look.guess.mapping, time: { column: "at" } }, questions: [question] },
    };
    const choices = choicesOf(unsure);
    const left = (change: object) => {
      const whole = { ...wholeOf(unsure), ...change };
      return openQuestions(unsure, mappingOf(unsure.guess.mapping, choices, whole), whole);
    };
    expect(left({})).toEqual([question]);
    expect(left({ format: "%d/%m/%Y" })).toEqual([]);
    const untimed: ImportLook = {
      ...look,
      guess: { mapping: {}, reasons: [], questions: [{ about: "time_column", text: "no time" }], notes: [] },
    };
    const whole = wholeOf(untimed);
    expect(openQuestions(untimed, {}, whole)).toHaveLength(1);
    expect(openQuestions(untimed, { time: { column: "lock" } }, whole)).toEqual([]);
    expect(openQuestions(untimed, {}, { ...whole, untimed: true })).toEqual([]);
  });

  it("keep dates and times of the day in two columns", () => {
    const time = { column: "at", time_of_day: "lock", format: "%d.%m.%Y %H:%M" };
    const two: ImportLook = {
      ...look,
      guess: { ...look.guess, mapping: { ...look.guess.mapping, columns: [], time } },
    };
    expect(choicesOf(two).map(({ role }) => role)).toEqual(["time", "time of day", "skip", "skip"]);
    expect(mappingOf(two.guess.mapping, choicesOf(two), wholeOf(two)).time).toEqual(time);
  });
});
