import { describe, expect, it } from "vitest";

import type { DatasetStorage, StorageInfo } from "../../api/types";
import { LATEST, partsOf } from "./storedParts";

const nothing = { points_a_day: 0, bytes_a_day: 0 };

function dataset(weeks: number): DatasetStorage {
  const partition = (week: number) => ({
    path: `/var/lib/store/data/velmar/week-${week}.db`,
    start: `2026-05-0${week + 1}T00:00:00Z`,
    last: `2026-05-0${week + 1}T23:59:59Z`,
    bytes: 100 + week,
    points: 1000,
    blocks: 1,
  });
  return {
    name: "velmar",
    bytes: 0,
    points: 0,
    rollup_bytes: 70,
    bin_bytes: 5,
    oldest: null,
    levels: [
      { policy: "default", width: "1h", bytes: 40, bytes_a_day: 0, files: [] },
      { policy: "default", width: "1d", bytes: 10, bytes_a_day: 0, files: [] },
    ],
    written_1d: nothing,
    written_7d: nothing,
    written_30d: nothing,
    partitions: Array.from({ length: weeks }, (_, week) => partition(week)),
  };
}

const storage = { waiting_points: 7, journal_bytes: 300, catalogue_bytes: 200 } as StorageInfo;

describe("what a dataset is made of", () => {
  it("begins with the latest partitions and sums up the older ones", () => {
    const parts = partsOf(dataset(8), storage, false);
    expect(parts[0]).toEqual({ name: "week-7.db", from: "2026-05-08", to: "2026-05-08", points: 1000, bytes: 107 });
    expect(parts[LATEST]).toEqual({ name: "2 older partitions", points: 2000, bytes: 201 });
    expect(partsOf(dataset(8), storage, true).map((part) => part.name)).not.toContain("2 older partitions");
    expect(partsOf(dataset(2), storage, false).map((part) => part.name)).toEqual([
      "week-1.db",
      "week-0.db",
      "1h rollup of default",
      "1d rollup of default",
      "rollup progress",
      "bin",
      "journal, of all datasets",
      "catalogue, of all datasets",
    ]);
  });

  it("leaves no byte out and counts none twice", () => {
    const of = (isWhole: boolean): number =>
      partsOf(dataset(8), storage, isWhole).reduce((sum, part) => sum + part.bytes, 0);
    const partitions = 8 * 100 + 28;
    expect([of(false), of(true)]).toEqual(Array(2).fill(partitions + 70 + 5 + 300 + 200));
  });
});
