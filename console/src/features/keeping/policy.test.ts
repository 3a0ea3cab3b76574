import { describe, expect, it } from "vitest";

import { draftOf, EMPTY, policyOf, readLevels, writeLevels } from "./policy";

describe("levels", () => {
  it("are typed in a row and come back", () => {
    const levels = readLevels("5m=90d, 1h=2y  1d");
    expect(levels).toEqual([{ width: "5m", keep_for: "90d" }, { width: "1h", keep_for: "2y" }, { width: "1d" }]);
    expect(writeLevels(levels)).toBe("5m=90d 1h=2y 1d");
    expect(readLevels(" ")).toEqual([]);
  });
});

describe("a policy", () => {
  it("comes back from the form as it was", () => {
    const policy = {
      levels: [{ width: "1h", keep_for: "2y" }, { width: "1d" }],
      metrics: ["level*", "flow"],
      where: 'reach = "upper"',
      zone: "Europe/Lisbon",
      lateness: "30m",
    };
    expect(policyOf(draftOf("levels", policy))).toEqual(policy);
  });

  it("says nothing of what is left empty", () => {
    expect(policyOf({ ...EMPTY, levels: "1h", metrics: " , ", where: " " })).toEqual({ levels: [{ width: "1h" }] });
    expect(policyOf(EMPTY).levels).toHaveLength(3);
  });
});
