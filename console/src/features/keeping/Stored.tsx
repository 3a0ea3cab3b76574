/** What lies on the disk, file by file, and how much was written. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";

import { storageQuery } from "../../api/queries";
import type { DatasetStorage, StorageInfo } from "../../api/types";
import { bytes, count, short } from "../../format/numbers";
import { day } from "../../format/times";
import { Button, Faint, Heading, PlainTable, TableFrame, Waiting } from "../../ui/parts";

const Share = styled.span<{ $share: number }>`
  display: block;
  height: 8px;
  width: ${({ $share }) => Math.max(1, $share * 160)}px;
  background: ${({ theme }) => theme.water};
`;

/** Of the partitions, so many of the latest are shown before somebody asks for all. */
const LATEST = 6;

interface Part {
  name: string;
  from?: string;
  to?: string;
  points?: number;
  bytes: number;
}

/** The parts of a dataset, the latest partition first, then what else there is. */
function partsOf(dataset: DatasetStorage, storage: StorageInfo, isWhole: boolean): Part[] {
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
    ...(marks > 0 ? [{ name: "marks and progress of rollups", bytes: marks }] : []),
    { name: "bin", bytes: dataset.bin_bytes },
    { name: "journal, of all datasets", points: storage.waiting_points, bytes: storage.journal_bytes },
    { name: "catalogue, of all datasets", bytes: storage.catalogue_bytes },
  ];
}

export function Stored({ dataset }: { dataset: string }) {
  const { data, error, refetch } = useQuery(storageQuery);
  const [isWhole, setWhole] = useState(false);
  if (!data) return <Waiting error={error} retry={refetch} />;
  const mine = data.datasets.find((one) => one.name === dataset);
  if (!mine) return <Faint>Nothing is stored yet.</Faint>;
  const parts = partsOf(mine, data, isWhole);
  const largest = Math.max(1, ...parts.map((part) => part.bytes));
  const written = [mine.written_1d, mine.written_7d, mine.written_30d].map(({ bytes_a_day }) => bytes(bytes_a_day));
  return (
    <>
      <Heading>What is stored</Heading>
      <p style={{ marginBottom: 8 }}>
        <Faint>
          Packed: {written[0]} today, {written[1]} a day over 7 days, {written[2]} a day over 30. Bytes are those of the
          file system.
        </Faint>
      </p>
      <TableFrame tabIndex={0} role="region" aria-label="What is stored">
        <PlainTable>
          <thead>
            <tr>
              <th>part</th>
              <th>from (UTC)</th>
              <th>to (UTC)</th>
              <th className="figure">points</th>
              <th className="figure">on disk</th>
              <th className="figure">bytes a point</th>
              <th>beside each other</th>
            </tr>
          </thead>
          <tbody>
            {parts.map((part) => (
              <tr key={part.name}>
                <td>{part.name}</td>
                <td>{part.from ?? ""}</td>
                <td>{part.to ?? ""}</td>
                <td className="figure" title={part.points === undefined ? "" : count(part.points)}>
                  {part.points === undefined ? "" : short(part.points)}
                </td>
                <td className="figure" title={`${count(part.bytes)} bytes`}>
                  {bytes(part.bytes)}
                </td>
                <td className="figure">{part.from && part.points ? (part.bytes / part.points).toFixed(2) : ""}</td>
                <td>
                  <Share $share={part.bytes / largest} aria-hidden />
                </td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
      {mine.partitions.length > LATEST && (
        <Button $quiet style={{ marginTop: 8 }} onPress={() => setWhole(!isWhole)}>
          {isWhole ? "Only the latest partitions" : `All ${count(mine.partitions.length)} partitions`}
        </Button>
      )}
    </>
  );
}
