import { describe, expect, it } from "vitest";

import { frameText, rangeBetween, readPlace, withoutFrame, writePlace } from "./address";

describe("the address bar", () => {
  it("gives back what was put into it", () => {
    const place = {
      dataset: "velmar",
      over: "last 7d",
      per: "1h",
      zone: "UTC",
      gaps: "0",
      query: 'show mean of level where reach = "upper"',
    };
    expect(readPlace(writePlace(place))).toEqual(place);
  });

  it("stays short where nothing was changed", () => {
    expect(writePlace(readPlace(new URLSearchParams())).toString()).toBe("");
  });
});

describe("the frame", () => {
  it("is written as the query language writes it", () => {
    expect(frameText({ over: "last 24h", per: "auto", zone: "Europe/Lisbon", gaps: "" })).toBe(
      'over last 24h per auto zone "Europe/Lisbon"',
    );
    expect(frameText({ over: " ", per: "", zone: "", gaps: "" })).toBe("");
  });

  it("is taken out of a query line by line", () => {
    expect(withoutFrame("show mean of level\nshow max of flow\nover last 24h per 15m\n")).toBe(
      "show mean of level\nshow max of flow",
    );
  });

  it("between two instants is never empty", () => {
    const at = Date.parse("2026-05-01T09:00:00Z");
    expect(rangeBetween(at, at)).toBe("2026-05-01T09:00:00Z to 2026-05-01T09:00:01Z");
  });
});
