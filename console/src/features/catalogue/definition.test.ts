import { expect, it } from "vitest";

import type { MetricInfo } from "../../api/types";
import { definitionOf, formOf, withForm } from "./definition";

const level: MetricInfo = {
  name: "level",
  id: 3,
  old_names: ["pegel"],
  tags: ["lock"],
  series: 24,
  points: 7,
  first: null,
  last: null,
  kind: "gauge",
  unit: "cm",
  shape: "linear",
  description: "Water",
  interval: "30s",
  labels: ["water"],
  status: "active",
  when_paused: "refuse",
  unreviewed: true,
};

it("a definition is what the service takes back, and nothing else", () => {
  expect(Object.keys(definitionOf(level)).sort()).toEqual(
    ["description", "interval", "kind", "labels", "shape", "status", "unit", "unreviewed", "when_paused"].sort(),
  );
});

it("a form that was not touched changes nothing but that somebody looked", () => {
  expect(withForm(level, formOf(level))).toEqual({ ...definitionOf(level), unreviewed: false });
  const changed = withForm(level, { ...formOf(level), unit: " ", labels: "a  b", staleAfter: "5m" });
  expect([changed.unit, changed.labels, changed.stale_after]).toEqual([undefined, ["a", "b"], "5m"]);
});
