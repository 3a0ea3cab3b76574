import { describe, expect, it } from "vitest";

import type { Level, Limit, Place } from "../../api/types";
import { bandsOf } from "./bands";

const DAY = 86_400_000;
const NOW = Date.parse("2026-05-31T00:00:00Z");

const limit = (text: string | null): Limit => ({
  limit: text,
  place: text && "velmar",
  source: "live",
  text: text === null ? "no limit, built in" : `${text}, set live`,
});

const place = {
  name: "velmar",
  keep_for: limit("90d"),
  keep_under: limit(null),
  packed_bytes: 2_000_000,
  oldest: "2026-05-01T00:00:00Z",
} as Place;

const level = (of: Partial<Level>): Level =>
  ({
    width: "1h",
    keep_for: "2y",
    from: null,
    until: "2026-05-30T00:00:00Z",
    filled: 1,
    bytes: 500,
    series: 3,
    windows: 24,
    ...of,
  }) as Level;

describe("the bands of the ruler", () => {
  it("say from when to when there is anything, and how long it is kept", () => {
    const [points, hours, days] = bandsOf(place, [level({}), level({ width: "1d", keep_for: null })], NOW);
    expect(points).toMatchObject({ name: "points", oldest: 30 * DAY, newest: 0, limit: 90 * DAY });
    expect(points?.note).toBe("kept for 90d, 2.00 MB");
    // A level that stands for all there is begins where points do.
    expect(hours).toMatchObject({ name: "1h rollup", oldest: 30 * DAY, newest: DAY, detail: "100% filled" });
    expect(days).toMatchObject({ limit: Infinity, note: "no age limit, 500 B" });
  });

  it("show a level that reaches further back than points, and one that stands for nothing yet", () => {
    const [, far, none] = bandsOf(
      place,
      [level({ from: "2025-05-31T00:00:00Z", filled: 0.5 }), level({ until: null, filled: 0 })],
      NOW,
    );
    expect(far).toMatchObject({ oldest: 365 * DAY, detail: "50% filled" });
    expect(none).toMatchObject({ oldest: null, newest: 0, detail: "0% filled" });
    expect(bandsOf({ ...place, oldest: null }, [], NOW)[0]?.oldest).toBeNull();
  });

  it("show what a level without windows is waiting for", () => {
    const detail = (of: Partial<Level>) => bandsOf(place, [level(of)], NOW)[1]?.detail;
    expect(detail({ windows: 0, waiting_points: 1_200 })).toBe("waiting for 1,200 points to be packed");
    expect(detail({ windows: 0, waiting_points: 1 })).toBe("waiting for 1 point to be packed");
    expect(detail({ windows: 0, series: 0 })).toBe("no points yet");
    expect(detail({ windows: 5, waiting_points: 1, filled: 0.25 })).toBe("25% filled");
  });
});
