/** What a dataset is made of on the disk, part by part. */
import type { DatasetStorage, StorageInfo } from "../../api/types";
import { count } from "../../format/numbers";
import { day } from "../../format/times";

/** Of the partitions, so many of the latest are shown before somebody asks for all. */
export const LATEST = 6;

export interface Part {
  name: string;
  from?: string;
  to?: string;
  points?: number;
  bytes: number;
}

/** The parts of a dataset, the latest partition first, then what else there is. */
export function partsOf(dataset: DatasetStorage, storage: StorageInfo, isWhole: boolean): Part[] {
  const latest = dataset.partitions.toReversed();
  const partitions = (isWhole ? latest : latest.slice(0, LATEST)).map((partition) => ({
    name: partition.path.split("/").at(-1) ?? partition.path,
    from: day(partition.start),
    to: day(partition.last),
    points: partition.points,
    bytes: partition.bytes,
  }));
  const older = latest.slice(partitions.length);
  const rest: Part[] =
    older.length === 0
      ? []
      : [
          {
            name: `${count(older.length)} older partitions`,
            points: older.reduce((sum, one) => sum + one.points, 0),
            bytes: older.reduce((sum, one) => sum + one.bytes, 0),
          },
        ];
  const levels = dataset.levels.map(({ policy, width, bytes: weight }) => ({
    name: `${width} rollup of ${policy}`,
    bytes: weight,
  }));
  const marks = dataset.rollup_bytes - dataset.levels.reduce((sum, level) => sum + level.bytes, 0);
  return [
    ...partitions,
    ...rest,
    ...levels,
    ...(marks > 0 ? [{ name: "rollup progress", bytes: marks }] : []),
    { name: "bin", bytes: dataset.bin_bytes },
    { name: "journal, of all datasets", points: storage.waiting_points, bytes: storage.journal_bytes },
    { name: "catalogue, of all datasets", bytes: storage.catalogue_bytes },
  ];
}
