/** Everything about one metric: definition, what it holds, what refers to it, and what can be done with it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import * as client from "../../api/client";
import { latestQuery, referencesQuery } from "../../api/queries";
import type { DefinedMetric, Deletion, MetricDefinition, MetricInfo } from "../../api/types";
import { bytes, count, tell } from "../../format/numbers";
import { ago, clock } from "../../format/times";
import { Allowed } from "../../ui/Allowed";
import { TextInput } from "../../ui/fields";
import { Button, Faint, Failure, Heading, Notice } from "../../ui/parts";
import { AskLink, firstQuery } from "./AskLink";
import { definitionOf, formOf, withForm } from "./definition";
import { Pairs, Row, Stack, Two } from "./layout";
import { OldNames } from "./OldNames";
import { unitText } from "../../format/units";

interface Props {
  dataset: string;
  metric: MetricInfo;
  close: () => void;
  renamed: (name: string) => void;
}

interface Saving {
  definition: MetricDefinition;
  how: client.PointsHow;
}

export function MetricPanel({ dataset, metric, close, renamed }: Props) {
  const queries = useQueryClient();
  const [form, setForm] = useState(() => formOf(metric));
  const [name, setName] = useState(metric.name);
  const [deletion, setDeletion] = useState<Deletion | null>(null);
  const [conversion, setConversion] = useState<DefinedMetric["converted"] | null>(null);
  const fresh = () => queries.invalidateQueries();
  const save = useMutation({
    mutationFn: ({ definition, how }: Saving) => client.putMetric(dataset, metric.name, definition, how),
    onSuccess: async ({ converted }, { how }) => {
      if (how === "try to convert") return setConversion(converted ?? null);
      setConversion(null);
      await fresh();
    },
  });
  const wanted = withForm(metric, form);
  // Stored points keep their unit until the user chooses to convert or relabel them.
  const changesUnit = metric.points > 0 && metric.unit != null && wanted.unit !== metric.unit;
  const unit = wanted.unit ?? "no unit";
  const rename = useMutation({
    mutationFn: () => client.renameMetric(dataset, metric.name, name),
    onSuccess: async () => {
      await fresh();
      renamed(name);
    },
  });
  const remove = useMutation({
    mutationFn: (dryRun: boolean) => client.deleteMetric(dataset, metric.name, dryRun),
    onSuccess: async (preview, dryRun) => {
      if (dryRun) return setDeletion(preview);
      close();
      await fresh();
    },
  });
  const change = (changed: Partial<typeof form>) => setForm({ ...form, ...changed });
  const withStatus = (status: MetricDefinition["status"], when: MetricDefinition["when_paused"]) =>
    save.mutate({ definition: { ...definitionOf(metric), status, when_paused: when }, how: "stay" });
  const failure = save.error ?? rename.error ?? remove.error;
  return (
    <Stack aria-label={`The metric ${metric.name}`}>
      <Row style={{ justifyContent: "space-between", alignItems: "center" }}>
        <Heading>{metric.name}</Heading>
        <Button $quiet onPress={close} aria-label="Close">
          ×
        </Button>
      </Row>
      <Facts dataset={dataset} metric={metric} />
      <Allowed to="define" dataset={dataset} otherwise="change definitions">
        {failure && <Failure error={failure} />}
        <TextInput label="Description" value={form.description} onChange={(description) => change({ description })} />
        <Two>
          <TextInput label="Unit (UCUM)" value={form.unit} onChange={(unit) => change({ unit })} />
          <TextInput label="Labels" value={form.labels} onChange={(labels) => change({ labels })} />
        </Two>
        <Two>
          <TextInput
            label="Interval"
            value={form.interval}
            onChange={(interval) => change({ interval })}
            placeholder="1m"
          />
          <TextInput
            label="Stale after"
            value={form.staleAfter}
            onChange={(staleAfter) => change({ staleAfter })}
            placeholder="5m"
          />
        </Two>
        <Row>
          <Button
            isDisabled={save.isPending}
            onPress={() => save.mutate({ definition: wanted, how: changesUnit ? "try to convert" : "stay" })}
          >
            Save
          </Button>
          {save.isSuccess && !conversion && <Faint role="status">saved</Faint>}
          {save.data?.note && <Faint role="status">{save.data.note}</Faint>}
        </Row>
        {conversion && changesUnit && (
          <Notice>
            <p>
              {count(conversion.points)} points are in {metric.unit}. Converted to {unit}, they become a new metric of
              the same name, and the old one goes to the bin.
            </p>
            <Row>
              <Button onPress={() => save.mutate({ definition: wanted, how: "convert" })}>Convert the points</Button>
              <Button $quiet onPress={() => save.mutate({ definition: wanted, how: "relabel" })}>
                They were in {unit} all along
              </Button>
              <Button $quiet onPress={() => setConversion(null)}>
                Change nothing
              </Button>
            </Row>
          </Notice>
        )}
        <Row>
          <TextInput label="Name" value={name} onChange={setName} />
          <Button
            $quiet
            isDisabled={name === metric.name || name === "" || rename.isPending}
            onPress={() => rename.mutate()}
          >
            Rename
          </Button>
        </Row>
        <Row>
          {metric.status === "active" ? (
            <>
              <Button $quiet onPress={() => withStatus("paused", "refuse")}>
                Pause, reject points
              </Button>
              <Button $quiet onPress={() => withStatus("paused", "drop")}>
                Pause, pass points over
              </Button>
              <Button $quiet onPress={() => withStatus("retired", "refuse")}>
                Retire
              </Button>
            </>
          ) : (
            <Button $quiet onPress={() => withStatus("active", metric.when_paused)}>
              Take points again
            </Button>
          )}
          <Button $quiet isDisabled={remove.isPending} onPress={() => remove.mutate(true)}>
            Delete …
          </Button>
        </Row>
        {deletion && (
          <Notice>
            <p>
              {count(deletion.points)} points in {count(deletion.series)} series ({bytes(deletion.bytes)}) go to the
              bin, and can be restored from there.
            </p>
            <Row>
              <Button onPress={() => remove.mutate(false)}>Delete {metric.name}</Button>
              <Button $quiet onPress={() => setDeletion(null)}>
                Keep it
              </Button>
            </Row>
          </Notice>
        )}
      </Allowed>
    </Stack>
  );
}

function Facts({ dataset, metric }: { dataset: string; metric: MetricInfo }) {
  const { data: references = [] } = useQuery(referencesQuery(dataset, metric.name));
  const { data: latest, dataUpdatedAt } = useQuery(latestQuery(dataset, metric.name));
  const points = latest?.items.filter((item) => item.metric === metric.name).slice(0, 3) ?? [];
  const span =
    metric.first !== null && metric.last !== null
      ? ((time) => `${time(metric.first ?? "")} to ${time(metric.last ?? "")} UTC`)(
          clock("UTC", [metric.first, metric.last]),
        )
      : "–";
  const saved =
    metric.thinned && metric.thinned.came > 0 ? (metric.thinned.left_out * 100) / metric.thinned.came : null;
  return (
    <Pairs>
      <dt>kind</dt>
      <dd>
        {metric.kind}, {metric.shape}
        {metric.temporality ? `, ${metric.temporality}` : ""}, {metric.status}
        {metric.unreviewed ? ", not reviewed yet" : ""}
      </dd>
      <dt>points</dt>
      <dd>
        {count(metric.points)} points in {count(metric.series)} series
      </dd>
      <dt>time</dt>
      <dd>{span}</dd>
      <dt>tags</dt>
      <dd>{metric.tags.join(", ") || "none"}</dd>
      {metric.old_names.length > 0 && (
        <>
          <dt>was called</dt>
          <dd>
            <OldNames noun="metric" dataset={dataset} names={metric.old_names} />
          </dd>
        </>
      )}
      {saved !== null && (
        <>
          <dt>thinned</dt>
          <dd>{saved.toFixed(0)} % of points dropped</dd>
        </>
      )}
      <dt>latest</dt>
      <dd>
        {points.map((point) => (
          <div key={JSON.stringify(point.tags)}>
            {tell(point.value, 2)} {unitText(point.unit)}{" "}
            <Faint>
              {Object.values(point.tags).join(" ")} {point.time === null ? "" : ago(point.time, dataUpdatedAt)}
            </Faint>
          </div>
        ))}
      </dd>
      <dt>referred to by</dt>
      <dd>{references.length === 0 ? "nothing" : references.map((one) => `${one.kind} ${one.name}`).join(", ")}</dd>
      <dt>ask</dt>
      <dd>
        <AskLink
          text={firstQuery(metric.name, metric.kind)}
          query={firstQuery(metric.name, metric.kind)}
          dataset={dataset}
        />
      </dd>
    </Pairs>
  );
}
