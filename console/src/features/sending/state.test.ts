import { expect, it } from "vitest";

import type { SinkInfo } from "../../api/types";
import { isComparable, stateOf } from "./state";

const sink = (of: Partial<SinkInfo>): SinkInfo => ({
  name: "central",
  kind: "forward",
  dataset: "velmar",
  destination: "http://127.0.0.1:7430",
  state: "healthy",
  error: null,
  failing_since: null,
  next: null,
  points: 3,
  points_per_second: 0.5,
  batches: 1,
  bytes: 120,
  rejected: 0,
  rejects: [],
  last_sent: null,
  behind: { points: 0, seconds: 0, caught_up_in: null },
  gaps: [],
  set_aside: 0,
  definition: {},
  ...of,
});

it("says how far a sink is behind, and why", () => {
  const now = Date.parse("2026-05-01T09:00:00Z");
  expect(stateOf(sink({}), now)).toBe("healthy");
  const behind = { points: 61_899, seconds: 40, caught_up_in: 90 };
  expect(stateOf(sink({ state: "behind", behind, set_aside: 1 }), now)).toBe(
    "behind, 61,899 points behind, caught up in about 90 s, 1 batch set aside",
  );
  const failing = sink({ state: "failing", behind, error: "nothing listens there", next: "2026-05-01T09:00:30Z" });
  expect(stateOf(failing, now)).toBe("failing, 61,899 points behind, nothing listens there, next attempt in 30 s");
});

it("offers a comparison only if the destination can be read", () => {
  expect(isComparable({ kind: "forward", definition: {} })).toBe(true);
  expect(isComparable({ kind: "sql", definition: { table: "readings" } })).toBe(true);
  expect(isComparable({ kind: "mqtt", definition: {} })).toBe(false);
  expect(isComparable({ kind: "forward", definition: { query: "show mean of level per 1m" } })).toBe(false);
});
