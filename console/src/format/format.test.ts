import { describe, expect, it } from "vitest";

import { bytes, decimals, figure, short, tell } from "./numbers";
import { ago, clock } from "./times";

describe("numbers", () => {
  it("have as many digits as they deserve", () => {
    expect([short(999), short(2_755_359), short(0.25), bytes(15_012_345), bytes(12)]).toEqual([
      "999",
      "2.76 M",
      "0.3",
      "15.0 MB",
      "12 B",
    ]);
    expect(decimals([312.5, 300])).toBe(1);
    expect(decimals([312.123456])).toBe(2);
    expect(decimals([])).toBe(0);
    expect(figure(1 / 3, 3)).toBe("0.333");
    expect([tell(null, 1), tell(312.55, 1), tell("open", 1)]).toEqual(["–", "312.6", "open"]);
    expect(tell({ bounds: [300, 600], counts: [1, 0, 2], sum: 2100 }, 1)).toBe("n=3 mean=700.0 ≤300:1 >600:2");
  });
});

describe("times", () => {
  it("show the precision that distinguishes them, in the zone", () => {
    const days = ["2026-07-21T23:00:00Z", "2026-07-22T23:00:00Z"];
    expect(clock("Europe/Lisbon", days)(days[0] ?? "")).toBe("Wed 22 Jul 2026");
    expect(clock("UTC", ["2026-07-21T23:15:00Z"])("2026-07-21T23:15:00Z")).toBe("Tue 21 Jul 23:15");
    expect(clock("UTC", ["2026-07-21T23:15:01Z"])("2026-07-21T23:15:01Z")).toBe("Tue 21 Jul 23:15:01");
  });

  it("know how long ago they were", () => {
    const now = Date.parse("2026-07-21T12:00:00Z");
    expect(ago("2026-07-21T11:59:55Z", now)).toBe("5 s ago");
    expect(ago("2026-07-21T09:00:00Z", now)).toBe("3 h ago");
    expect(ago("2026-07-21T13:00:00Z", now)).toBe("in the future");
  });
});
