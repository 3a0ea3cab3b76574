/** What travels, as the service's OpenAPI document describes it. Times are RFC 3339. */

export interface Held {
  points: number;
  first: string | null;
  last: string | null;
}

export interface DatasetInfo extends Held {
  name: string;
  zone: string;
  description: string;
  metrics: number;
  series: number;
}

export interface MetricInfo extends Held {
  name: string;
  kind: "gauge" | "counter" | "state";
  unit: string | null;
  shape: "linear" | "stepped";
  description: string;
  tags: string[];
  series: number;
}

export interface TagInfo {
  key: string;
  values: { value: string; series: number }[];
}

/** A distribution: counts between ascending bounds, one more than those, and the sum of what was counted. */
export interface Histogram {
  bounds: number[];
  counts: number[];
  sum: number;
}
export type Value = number | string | Histogram;
export type Tags = Record<string, string>;

export interface LatestPoint {
  metric: string;
  tags: Tags;
  time: string | null;
  value: Value | null;
  unit: string | null;
}

export interface Page<T> {
  total: number;
  items: T[];
}

export interface StorageInfo {
  path: string;
  bytes: number;
  catalogue_bytes: number;
  journal_bytes: number;
  waiting_points: number;
  datasets: { name: string; bytes: number; points: number }[];
}

export interface Overview extends Held {
  version: string;
  started: string;
  now: string;
  points_per_second: number;
  arrivals: { start: string; accepted: number; rejected: number }[];
  datasets: number;
  metrics: number;
  series: number;
  storage: StorageInfo;
}

export interface Line {
  tags: Tags;
  times?: string[];
  values: (Value | null)[];
}

export interface Show {
  label: string;
  unit: string | null;
  form: "windows" | "points";
  lines: Line[];
}

export interface Answer {
  asked_at: string;
  zone: string;
  from: string;
  to: string;
  windows: { width: string | null; starts: string[]; ends: string[]; partial: number[] };
  shows: Show[];
  notes: string[];
  cost: {
    series: number;
    blocks_summarised: number;
    blocks_decoded: number;
    points_read: number;
    milliseconds: number;
  };
}

export interface Problem {
  type: string;
  title: string;
  status: number;
  detail: string;
  help?: string;
  place?: { text: "query" | "frame"; start: number; end: number; line: number; column: number; drawing: string };
}

export interface Checked {
  canonical: string | null;
  problem: Problem | null;
}
