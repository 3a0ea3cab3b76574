/** What each metric takes, what is kept of it, and a limit of its own. */
import { useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";

import { topQuery } from "../../api/queries";
import type { MetricStorage, Place } from "../../api/types";
import { bytes, count, short } from "../../format/numbers";
import { day } from "../../format/times";
import { Allowed } from "../../ui/Allowed";
import { Button, Faint, Heading, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { Limits } from "./Limits";

/** So many are shown before somebody asks for all. */
const FIRST = 12;

interface Props {
  dataset: string;
  /** Of its metrics, the limits in force. */
  places: readonly Place[];
  hasFile: boolean;
}

export function Metrics({ dataset, places, hasFile }: Props) {
  const { data, error, refetch } = useQuery(topQuery);
  const [isWhole, setWhole] = useState(false);
  if (!data) return <Waiting error={error} retry={refetch} />;
  const mine = data.filter((size) => size.dataset === dataset);
  const own = places.filter(hasOwn).map((place) => place.name.split("::")[1]);
  const shown = isWhole ? mine : mine.slice(0, FIRST);
  return (
    <>
      <Heading>Largest metrics</Heading>
      <p style={{ marginBottom: 8 }}>
        <Faint>
          {own.length === 0
            ? "All metrics use the limits of the dataset."
            : `With limits of their own: ${own.join(", ")}.`}
        </Faint>
      </p>
      <TableFrame aria-label="Largest metrics">
        <PlainTable>
          <thead>
            <tr>
              <th>metric</th>
              <th className="figure">series</th>
              <th className="figure">points</th>
              <th className="figure">on disk</th>
              <th className="figure">bytes a point</th>
              <th>oldest (UTC)</th>
              <th>kept</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((size) => (
              <Metric
                key={size.metric}
                size={size}
                place={places.find((place) => place.name === `${dataset}::${size.metric}`)}
                hasFile={hasFile}
              />
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
      {mine.length > FIRST && (
        <Button $quiet style={{ marginTop: 8 }} onPress={() => setWhole(!isWhole)}>
          {isWhole ? "Largest only" : `All ${count(mine.length)}`}
        </Button>
      )}
    </>
  );
}

const hasOwn = (place: Place): boolean => [place.keep_for.place, place.keep_under.place].includes(place.name);

function Metric({ size, place, hasFile }: { size: MetricStorage; place: Place | undefined; hasFile: boolean }) {
  const [isOpen, setOpen] = useState(false);
  return (
    <Fragment>
      <tr>
        <td>{size.metric ?? "in the bin"}</td>
        <td className="figure">{count(size.series)}</td>
        <td className="figure" title={count(size.points)}>
          {short(size.points)}
        </td>
        <td className="figure" title={`${count(size.bytes)} bytes`}>
          {bytes(size.bytes)}
        </td>
        <td className="figure">{size.points > 0 ? (size.bytes / size.points).toFixed(2) : "–"}</td>
        <td title={size.oldest ?? ""}>{size.oldest ? day(size.oldest) : "–"}</td>
        <td style={{ whiteSpace: "normal" }}>
          {place && (
            <>
              {hasOwn(place) ? `${place.keep_for.text}; ${place.keep_under.text}` : "as the dataset"}{" "}
              <Allowed to="define" dataset={place.name.split("::")[0] ?? ""}>
                <Button $quiet $low aria-label={`Limits of ${size.metric}`} onPress={() => setOpen(!isOpen)}>
                  {isOpen ? "Close" : "Limits"}
                </Button>
              </Allowed>
            </>
          )}
        </td>
      </tr>
      {isOpen && place && (
        <tr>
          <td colSpan={7} style={{ whiteSpace: "normal" }}>
            <Limits key={`${place.keep_for.limit} ${place.keep_under.limit}`} place={place} hasFile={hasFile} isOpen />
          </td>
        </tr>
      )}
    </Fragment>
  );
}
