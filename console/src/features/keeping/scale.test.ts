import { describe, expect, it } from "vitest";

import { bentScale, spanMs } from "./scale";

const DAY = 86_400_000;

describe("the ruler's scale", () => {
  it("has room for an hour and for years", () => {
    const scale = bentScale([3_600_000, 400 * DAY, Infinity]);
    const places = [0, 3_600_000, DAY, 30 * DAY, 400 * DAY].map(scale.at);
    expect(places[0]).toBe(0);
    expect(places.every((place, i) => i === 0 || place > (places[i - 1] ?? 1) + 0.05)).toBe(true);
    expect(scale.at(1e15)).toBe(1);
    expect(scale.ticks.at(-1)?.name).toBe("1 year");
  });

  it("reads spans, none as without end", () => {
    expect([spanMs("90d"), spanMs("1h30m"), spanMs("2w"), spanMs("250ms")]).toEqual([
      90 * DAY,
      5_400_000,
      14 * DAY,
      250,
    ]);
    expect(spanMs(null)).toBe(Infinity);
    expect(Math.round(spanMs("1y1mo") / DAY)).toBe(396);
  });
});
