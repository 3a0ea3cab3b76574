/** A metric's definition apart from what else is known of it, as the service takes it back. */
import type { MetricDefinition, MetricInfo } from "../../api/types";

export function definitionOf(metric: MetricInfo): MetricDefinition {
  const { name: _, id: _id, old_names: _old, tags: _tags, series: _series, thinned: _thinned, ...rest } = metric;
  const { points: _points, first: _first, last: _last, ...definition } = rest;
  return definition;
}

/** What the panel's form holds: texts. */
export interface Form {
  unit: string;
  description: string;
  interval: string;
  staleAfter: string;
  labels: string;
}

export const formOf = (metric: MetricInfo): Form => ({
  unit: metric.unit ?? "",
  description: metric.description,
  interval: metric.interval ?? "",
  staleAfter: metric.stale_after ?? "",
  labels: (metric.labels ?? []).join(" "),
});

/** The definition with what the form says; what is empty says nothing. */
export function withForm(metric: MetricInfo, form: Form): MetricDefinition {
  const definition: MetricDefinition = {
    ...definitionOf(metric),
    description: form.description.trim(),
    unreviewed: false,
  };
  const set = (key: "unit" | "interval" | "stale_after", value: string) => {
    if (value.trim() === "") delete definition[key];
    else definition[key] = value.trim();
  };
  set("unit", form.unit);
  set("interval", form.interval);
  set("stale_after", form.staleAfter);
  definition.labels = form.labels.split(/\s+/).filter((label) => label !== "");
  return definition;
}
