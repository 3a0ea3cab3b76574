import { describe, expect, it } from "vitest";

import type { ImportLook } from "../../api/types";
import { choicesOf, mappingOf } from "./roles";

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
  },
};

describe("roles of columns", () => {
  it("begin as the guess has them, and give it back", () => {
    const choices = choicesOf(look);
    expect(choices.map(({ role }) => role)).toEqual(["time", "tag", "value", "skip"]);
    expect(choices[3]?.why).toContain("different text");
    expect(mappingOf(look.guess.mapping, choices, "", "")).toEqual(look.guess.mapping);
  });

  it("change the mapping", () => {
    const choices = choicesOf(look).map((choice) =>
      choice.column === "note" ? { ...choice, role: "state" as const, name: "remark" } : choice,
    );
    const mapping = mappingOf(look.guess.mapping, choices, "Europe/Lisbon", "reach=upper nonsense x=");
    expect(mapping.columns?.at(-1)).toEqual({ column: "note", role: "state", name: "remark" });
    expect(mapping.time).toEqual({ column: "at", format: "s", zone: "Europe/Lisbon" });
    expect(mapping.tags).toEqual({ reach: "upper" });
    const untimed = choices.map((choice) => (choice.role === "time" ? { ...choice, role: "skip" as const } : choice));
    expect(mappingOf(look.guess.mapping, untimed, "", "").time).toEqual({});
  });
});
