import { expect, test } from "vitest";

import { troubles, troubleText } from "./trouble";

test("each kind of trouble is counted and described", () => {
  const series = { watched: 9, is_full: false, stale: 0, stuck: 1, clock_off: 1200, troubled: [] };
  expect(troubles(series)).toEqual(["1 series stuck", "1,200 series clock off"]);
  const since = "2026-05-01T12:00:00Z";
  expect(troubleText({ source: "locks", trouble: "stale", since })).toBe("no point since 2026-05-01 12:00:00");
  expect(troubleText({ source: "locks", trouble: "clock_off", since })).toContain("latest point is 2026-05-01");
});
