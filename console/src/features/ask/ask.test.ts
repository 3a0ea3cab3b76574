import { describe, expect, it } from "vitest";

import type { Answer, Show } from "../../api/types";
import { indexOfByte } from "./bytes";
import { chartData, choices, isDrawable, lineKey, lineNames, summary, together } from "./chartData";

const answer: Answer = {
  asked_at: "2026-05-01T10:00:00Z",
  zone: "UTC",
  from: "2026-05-01T09:05:00Z",
  to: "2026-05-01T10:00:00Z",
  windows: {
    width: "30m",
    starts: ["2026-05-01T09:00:00Z", "2026-05-01T09:30:00Z"],
    ends: ["2026-05-01T09:30:00Z", "2026-05-01T10:00:00Z"],
    partial: [0],
  },
  shows: [],
  notes: [],
  sources: [],
  cost: {
    series: 2,
    blocks_skipped: 0,
    blocks_summarised: 0,
    blocks_decoded: 0,
    points_read: 4,
    windows_read: 0,
    milliseconds: 1,
    stages: { planning: 0, reading: 1, computing: 0, writing: 0 },
  },
};

const show = (form: Show["form"], lines: Show["lines"]): Show => ({ label: "mean of level", unit: "cm", form, lines });
const osier = { lock: "osier", reach: "upper" };
const marl = { lock: "marl", reach: "upper" };

describe("a chart of windows", () => {
  const windows = show("windows", [
    { tags: osier, values: [310, null] },
    { tags: marl, values: [312.5, 313] },
  ]);

  it("puts each value in the middle of its window", () => {
    const data = chartData(answer, windows, new Set());
    expect(data.xs).toEqual(["2026-05-01T09:15:00Z", "2026-05-01T09:45:00Z"].map((time) => Date.parse(time) / 1000));
    expect(data.columns).toEqual([
      [310, null],
      [312.5, 313],
    ]);
    expect(data.borders).toHaveLength(3);
    expect(data.partial.has(0)).toBe(true);
  });

  it("leaves out the lines that are hidden", () => {
    expect(chartData(answer, windows, new Set([lineKey({ tags: osier, values: [] })])).columns).toEqual([[312.5, 313]]);
  });

  it("is described in a sentence", () => {
    expect(summary(answer, windows)).toBe("mean of level: 2 lines over 2 windows, from 310 to 313 cm");
    expect(lineNames(windows.lines)).toEqual({ names: ["osier", "marl"], shared: "reach upper" });
  });
});

describe("a chart of points", () => {
  it("joins the times of its lines", () => {
    const points = show("points", [
      { tags: osier, times: ["2026-05-01T09:00:00Z", "2026-05-01T09:02:00Z"], values: [1, 2] },
      { tags: marl, times: ["2026-05-01T09:01:00Z", "2026-05-01T09:02:00Z"], values: [3, 4] },
    ]);
    expect(chartData(answer, points, new Set()).columns).toEqual([
      [1, null, 2],
      [null, 3, 4],
    ]);
  });

  it("separates several metrics with the same tags", () => {
    const points = show("points", [
      { metric: "level", unit: "cm", tags: osier, times: ["2026-05-01T09:00:00Z"], values: [1] },
      { metric: "flow", unit: "m3/s", tags: osier, times: ["2026-05-01T09:00:00Z"], values: [2] },
    ]);
    expect(lineNames(points.lines).names).toEqual(["level", "flow"]);
    expect(chartData(answer, points, new Set(points.lines.slice(0, 1).map(lineKey))).columns).toEqual([[2]]);
  });

  it("is not drawn where there are only words", () => {
    expect(isDrawable(show("points", [{ tags: osier, times: ["2026-05-01T09:00:00Z"], values: ["open"] }]))).toBe(
      false,
    );
    expect(summary(answer, show("windows", []))).toContain("without a number");
  });
});

describe("a chart of moments", () => {
  it("has a value for each, whenever it is from", () => {
    const moments = ["2026-05-01T09:00:00Z", "2026-05-01T12:00:00Z"];
    const lines = [{ tags: osier, times: ["2026-05-01T08:59:00Z", null], values: [312.5, null] }];
    const data = chartData({ ...answer, moments }, show("moment", lines), new Set());
    expect(data.xs).toEqual(moments.map((time) => Date.parse(time) / 1000));
    expect(data.columns).toEqual([[312.5, null]]);
  });
});

describe("places", () => {
  it("are counted in bytes by the service and in units by the editor", () => {
    expect(indexOfByte("Pegelstände x", 14)).toBe(13);
    expect(indexOfByte("🛶 x", 5)).toBe(3);
    expect(indexOfByte("x", 99)).toBe(1);
  });
});

describe("several shows in one chart", () => {
  it("stand side by side, each with its unit and its filled windows", () => {
    const level = show("windows", [{ tags: osier, values: [310, 311], filled: [1] }]);
    const flow: Show = { ...show("windows", [{ tags: marl, values: [2, null] }]), label: "flow", unit: "m3/s" };
    const { data, units, names } = together(answer, [level, flow]);
    expect(data.columns).toEqual([
      [310, 311],
      [2, null],
    ]);
    expect(units).toEqual(["cm", "m3/s"]);
    expect(names).toEqual(["mean of level: osier upper", "flow: marl upper"]);
    expect(data.filled.map((places) => [...places])).toEqual([[1], []]);
  });

  it("offers the values that tell lines apart", () => {
    const lines = [osier, marl].map((tags) => ({ tags, values: [] }));
    expect(choices(lines)).toEqual([{ key: "lock", values: ["osier", "marl"] }]);
  });
});
