/** Sinks: state, figures and actions. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { useMay } from "../../api/caller";
import * as client from "../../api/client";
import { sinksQuery } from "../../api/queries";
import type { SinkInfo } from "../../api/types";
import { count, short } from "../../format/numbers";
import { ago } from "../../format/times";
import { Title, Waiting } from "../../ui/parts";
import type { Draft } from "../definitions/definition";
import { type FlowCalls, type FlowColumn, FlowTable } from "../definitions/FlowTable";
import { firstDraft, SinkForm } from "./SinkForm";
import { SinkDetails } from "./SinkDetails";
import { stateOf } from "./state";

const columns = (now: number): FlowColumn<SinkInfo>[] => [
  { name: "sink", cell: ({ name }) => name },
  { name: "kind", cell: ({ kind }) => kind },
  { name: "dataset", cell: ({ dataset }) => dataset },
  { name: "destination", cell: ({ destination }) => destination, wraps: true },
  { name: "state", cell: (sink) => stateOf(sink, now), wraps: true },
  {
    name: "last sent",
    cell: ({ last_sent: last }) => (last === null ? "never" : ago(last, now)),
    title: ({ last_sent: last }) => last ?? "",
  },
  { name: "points/s", cell: (sink) => short(sink.points_per_second), isFigure: true },
  { name: "points", cell: ({ points }) => count(points), isFigure: true },
];

const CALLS: FlowCalls = {
  key: "sinks",
  pause: (name) => client.changeSink(name, "pause"),
  resume: (name) => client.changeSink(name, "resume"),
  remove: client.removeSink,
};

export default function SendingPage({ dataset }: { dataset: string }) {
  const { data, error, refetch, dataUpdatedAt } = useQuery(sinksQuery);
  const may = useMay();
  const [draft, setDraft] = useState<Draft>(() => firstDraft(dataset));
  if (!data) return <Waiting error={error} retry={refetch} />;
  return (
    <>
      <Title>Sending</Title>
      {data.length === 0 ? (
        <p>
          No sink is defined. A sink sends points continuously: to another service, an address, a database, a broker, or
          files.
        </p>
      ) : (
        <FlowTable
          label="Sinks"
          flows={data}
          columns={columns(dataUpdatedAt)}
          calls={CALLS}
          details={(sink) => <SinkDetails sink={sink} edit={may("admin") ? setDraft : undefined} />}
        />
      )}
      {may("admin") && <SinkForm draft={draft} change={setDraft} dataset={dataset} />}
    </>
  );
}
