import { expect, test } from "vitest";

import { difference } from "./difference";

test("only what differs is shown", () => {
  expect(difference({ unit: "cm", kind: "gauge" }, { unit: "m", kind: "gauge" })).toBe("unit: cm → m");
  expect(difference(null, { unit: "cm", note: null })).toBe("unit: cm");
  expect(difference({ keep_for: "90d" }, { keep_for: null })).toBe("keep_for: 90d → –");
  expect(difference({ points: 3 }, null)).toBe("points was 3");
  expect(difference("depth", "level")).toBe("depth → level");
  expect(difference(null, null)).toBe("");
});
