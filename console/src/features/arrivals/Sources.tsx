/** Sources: state, figures and actions; and the callers that push. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { useMay } from "../../api/caller";
import * as client from "../../api/client";
import { pushingCallersQuery, sourcesQuery } from "../../api/queries";
import type { SourceInfo } from "../../api/types";
import { count, short } from "../../format/numbers";
import { ago } from "../../format/times";
import { troubles } from "../../format/trouble";
import { Heading, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import type { Draft } from "../definitions/definition";
import { type FlowCalls, type FlowColumn, FlowTable } from "../definitions/FlowTable";
import { SourceDetails } from "./SourceDetails";
import { firstDraft, SourceForm } from "./SourceForm";

const columns = (now: number): FlowColumn<SourceInfo>[] => [
  { name: "source", cell: ({ name }) => name },
  { name: "kind", cell: ({ kind }) => kind },
  { name: "dataset", cell: ({ dataset }) => dataset },
  { name: "state", cell: stateOf, wraps: true },
  {
    name: "last points",
    cell: ({ last_points: last }) => (last === null ? "none yet" : ago(last, now)),
    title: ({ last_points: last }) => last ?? "",
  },
  { name: "points/s", cell: (source) => short(source.points_per_second), isFigure: true },
  { name: "points", cell: ({ points }) => count(points), isFigure: true },
  { name: "rejected", cell: ({ rejected }) => count(rejected), title: latestReject, isFigure: true },
];

const CALLS: FlowCalls = {
  key: "sources",
  pause: (name) => client.changeSource(name, "pause"),
  resume: (name) => client.changeSource(name, "resume"),
  run: (name) => client.changeSource(name, "run"),
  remove: client.removeSource,
};

export function Sources({ dataset }: { dataset: string }) {
  const { data, error, refetch, dataUpdatedAt } = useQuery(sourcesQuery);
  const may = useMay();
  const [draft, setDraft] = useState<Draft>(() => firstDraft(dataset));
  if (!data) return <Waiting error={error} retry={refetch} />;
  return (
    <>
      {data.length === 0 ? (
        <p>
          No source is defined. A source fetches points automatically: from addresses, brokers, devices, databases or
          folders.
        </p>
      ) : (
        <FlowTable
          label="Sources"
          flows={data}
          columns={columns(dataUpdatedAt)}
          calls={CALLS}
          details={(source) => <SourceDetails source={source} edit={may("admin") ? setDraft : undefined} />}
        />
      )}
      <Callers now={dataUpdatedAt} />
      {may("admin") && <SourceForm draft={draft} change={setDraft} dataset={dataset} />}
    </>
  );
}

/** Callers that have pushed points since the service started. */
function Callers({ now }: { now: number }) {
  const { data: callers = [] } = useQuery(pushingCallersQuery);
  if (callers.length === 0) return null;
  return (
    <>
      <Heading style={{ marginTop: 16 }}>Callers that push</Heading>
      <TableFrame aria-label="Callers that push">
        <PlainTable aria-label="Callers that push">
          <thead>
            <tr>
              <th>caller</th>
              <th>kind</th>
              <th>dataset</th>
              <th>last points</th>
              <th className="figure">points/s</th>
              <th className="figure">points</th>
              <th className="figure">rejected</th>
            </tr>
          </thead>
          <tbody>
            {callers.map((caller) => (
              <tr key={`${caller.kind} ${caller.dataset} ${caller.token ?? ""}`}>
                <td>{caller.token ?? "this machine"}</td>
                <td>{caller.kind}</td>
                <td>{caller.dataset}</td>
                <td title={caller.last_points ?? ""}>
                  {caller.last_points === null ? "none yet" : ago(caller.last_points, now)}
                </td>
                <td className="figure">{short(caller.points_per_second)}</td>
                <td className="figure">{count(caller.points)}</td>
                <td className="figure">{count(caller.rejected)}</td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
    </>
  );
}

/** The state of a source and its errors. */
function stateOf({ state, is_late: isLate, error, parts, series }: SourceInfo): string {
  const failed = parts.filter((part) => part.error !== null && part.points === 0);
  const partly = parts.filter((part) => part.error !== null && part.points > 0);
  const more = [
    ...(isLate ? ["late"] : []),
    ...(error !== null ? [error] : []),
    ...(error === null && failed.length > 0 ? [`${failed.length} of ${parts.length} failed`] : []),
    ...(error === null && partly.length > 0 ? [`${partly.length} of ${parts.length} partly failed`] : []),
    ...troubles(series),
  ];
  return [state, ...more].join(", ");
}

function latestReject({ rejects }: SourceInfo): string {
  return rejects.flatMap((reject) => reject.samples).at(-1) ?? "";
}
