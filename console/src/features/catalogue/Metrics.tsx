/** The metrics of a dataset: search, a fast list, and what is known of one beside it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";

import * as client from "../../api/client";
import { metricsQuery } from "../../api/queries";
import type { MetricDefinition, MetricInfo } from "../../api/types";
import { count, short } from "../../format/numbers";
import { LongTable, type LongColumn } from "../../ui/LongTable";
import { Allowed } from "../../ui/Allowed";
import { Button, Failure, Notice, Waiting } from "../../ui/parts";
import { SearchBox } from "../../ui/SearchBox";
import { definitionOf } from "./definition";
import { EditMany } from "./EditMany";
import { Beside, Name } from "./layout";
import { MetricPanel } from "./MetricPanel";
import { Nothing } from "./Nothing";
import { unitText } from "../../format/units";

const status = (metric: MetricInfo): string =>
  metric.status === "active" && metric.unreviewed ? "unreviewed" : metric.status;

const text = (metric: MetricInfo): string =>
  [metric.name, metric.kind, metric.description, status(metric), ...(metric.labels ?? []), ...metric.old_names]
    .join(" ")
    .toLowerCase();

export function Metrics({ dataset }: { dataset: string }) {
  const { data, error, refetch } = useQuery(metricsQuery(dataset));
  const [search, setSearch] = useState("");
  const [shown, setShown] = useState<string | null>(null);
  const wanted = useDeferredValue(search).toLowerCase();
  if (!data) return <Waiting error={error} retry={refetch} />;
  if (data.length === 0) return <Nothing />;
  const found = wanted === "" ? data : data.filter((metric) => text(metric).includes(wanted));
  const open = data.find((metric) => metric.name === shown);
  const columns: LongColumn<MetricInfo>[] = [
    {
      name: "metric",
      width: "minmax(150px, 1.2fr)",
      cell: (metric) => <Name onPress={() => setShown(metric.name)}>{metric.name}</Name>,
    },
    { name: "kind", width: "100px", cell: (metric) => metric.kind },
    { name: "unit", width: "120px", cell: (metric) => (metric.unit ? unitText(metric.unit) : "–") },
    { name: "status", width: "110px", cell: status },
    ...(open
      ? []
      : [
          { name: "description", width: "minmax(200px, 2fr)", cell: (metric: MetricInfo) => metric.description },
          { name: "tags", width: "minmax(120px, 1fr)", cell: (metric: MetricInfo) => metric.tags.join(" ") },
        ]),
    { name: "series", width: "90px", figure: true, cell: (metric) => count(metric.series) },
    {
      name: "points",
      width: "100px",
      figure: true,
      cell: (metric) => <span title={count(metric.points)}>{short(metric.points)}</span>,
    },
  ];
  return (
    <>
      <Unreviewed dataset={dataset} metrics={data} />
      <EditMany dataset={dataset} />
      <SearchBox
        value={search}
        onChange={setSearch}
        placeholder="name, kind, label, status"
        status={wanted === "" ? `${count(data.length)} metrics` : `${count(found.length)} of ${count(data.length)}`}
      />
      <Beside $open={open !== undefined}>
        <LongTable
          label="Metrics"
          items={found}
          columns={columns}
          keyOf={(metric) => metric.name}
          selected={open?.name}
          height={600}
        />
        {open && (
          <MetricPanel
            key={open.name}
            dataset={dataset}
            metric={open}
            close={() => setShown(null)}
            renamed={(name) => setShown(name)}
          />
        )}
      </Beside>
    </>
  );
}

/** Metrics that arrived by themselves, to be looked at once. */
function Unreviewed({ dataset, metrics }: { dataset: string; metrics: MetricInfo[] }) {
  const queries = useQueryClient();
  const unreviewed = metrics.filter((metric) => metric.unreviewed);
  const review = useMutation({
    mutationFn: async () => {
      for (const metric of unreviewed) {
        const definition: MetricDefinition = { ...definitionOf(metric), unreviewed: false };
        // oxlint-disable-next-line no-await-in-loop -- one after the other, so that a failure names its metric
        await client.putMetric(dataset, metric.name, definition);
      }
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["metrics", dataset] }),
  });
  if (review.error) return <Failure error={review.error} />;
  if (unreviewed.length === 0) return null;
  return (
    <Notice>
      <p style={{ display: "flex", gap: 16, alignItems: "center", marginBottom: 12 }}>
        {unreviewed.length === 1 ? "1 metric was" : `${count(unreviewed.length)} metrics were`} made on arrival and{" "}
        {unreviewed.length === 1 ? "has" : "have"} not been looked at.
        <Allowed to="define" dataset={dataset}>
          <Button $quiet isDisabled={review.isPending} onPress={() => review.mutate()}>
            Mark all as reviewed
          </Button>
        </Allowed>
      </p>
    </Notice>
  );
}
