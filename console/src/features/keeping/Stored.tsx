/** What lies on the disk, file by file, and how much was written. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";

import { storageQuery } from "../../api/queries";
import { bytes, count, short } from "../../format/numbers";
import { Button, Faint, Heading, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { LATEST, partsOf } from "./storedParts";

const Share = styled.span<{ $share: number }>`
  display: block;
  height: 8px;
  width: ${({ $share }) => Math.max(1, $share * 160)}px;
  background: ${({ theme }) => theme.water};
`;

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
      <Heading>Stored data</Heading>
      <p style={{ marginBottom: 8 }}>
        <Faint>
          Packed: {written[0]} today, {written[1]} per day over 7 days, {written[2]} per day over 30. Sizes are those of
          the file system.
        </Faint>
      </p>
      <TableFrame aria-label="Stored data">
        <PlainTable>
          <thead>
            <tr>
              <th>part</th>
              <th>from (UTC)</th>
              <th>to (UTC)</th>
              <th className="figure">points</th>
              <th className="figure">on disk</th>
              <th className="figure">bytes a point</th>
              <th>side by side</th>
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
          {isWhole ? "Latest partitions only" : `All ${count(mine.partitions.length)} partitions`}
        </Button>
      )}
    </>
  );
}
