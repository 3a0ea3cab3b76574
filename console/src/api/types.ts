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
  closed: boolean;
  old_names: string[];
  metrics: number;
  unreviewed: number;
  series: number;
}

export type Kind = "gauge" | "counter" | "state" | "histogram";

/** What is said of a metric: what the service keeps, and takes back. */
export interface MetricDefinition {
  kind: Kind;
  unit?: string;
  shape: "linear" | "stepped";
  description: string;
  temporality?: "cumulative" | "delta";
  interval?: string;
  stale_after?: string;
  labels?: string[];
  status: "active" | "paused" | "retired";
  when_paused: "refuse" | "drop";
  unreviewed?: boolean;
  max_series?: number;
  thinning?: { dead_band?: number; line_tolerance?: number; max_silence?: string };
}

export interface MetricInfo extends Held, MetricDefinition {
  name: string;
  id: number;
  old_names: string[];
  tags: string[];
  series: number;
  thinned?: { came: number; left_out: number };
}

/** What is said of a tag. */
export interface TagDefinition {
  description: string;
  required: boolean;
  allowed?: string[];
  pattern?: string;
  max_values?: number;
}

/** What a table of definitions says otherwise than the store. */
export interface Differences {
  new: string[];
  changed: { metric: string; field: string; before: string; after: string }[];
  same: number;
  applied: boolean;
}

export interface TagInfo {
  key: string;
  definition?: TagDefinition;
  old_keys: string[];
  values: { value: string; series: number }[];
}

export interface Reference {
  kind: string;
  name: string;
  how: string;
}

export interface DefinedMetric {
  created: boolean;
  converted?: { points: number; unfit: number; examples: string[] };
  note?: string;
}

export interface Deletion extends Held {
  id: string | null;
  what: string;
  series: number;
  bytes: number;
  references: Reference[];
  recoverable_until: string | null;
}

export interface BinItem {
  id: string;
  dataset: string;
  what: string;
  kind: "metric" | "points";
  deleted: string;
  erased: string;
  series: number;
  points: number | null;
}

export type Role = "value" | "state" | "histogram" | "tag" | "metric" | "unit" | "skip";

export interface MappingColumn {
  column: string;
  role: Role;
  name?: string;
  unit?: string;
  kind?: Kind;
}

export interface Mapping {
  missing?: string[];
  table?: { decimal?: string };
  time?: { column?: string; time_of_day?: string; format?: string; zone?: string; clock_change?: string };
  tags?: Record<string, string>;
  columns?: MappingColumn[];
}

/** What the first rows leave open. */
export interface GuessQuestion {
  about: "time_column" | "date_order";
  column?: string;
  text: string;
  /** Formats of times to choose from. */
  choices?: string[];
}

export interface ImportLook {
  names: string[];
  rows: string[][];
  guess: {
    mapping: Mapping;
    reasons: { column: string; taken_for: string; why: string }[];
    questions?: GuessQuestion[];
    notes?: string[];
  };
  notes: string[];
}

export interface ImportRecord {
  id: string;
  dataset: string;
  file: string;
  format: string;
  bytes: number;
  uploaded: string;
  stage: "waiting" | "running" | "stopped" | "done" | "failed";
  order: { dry_run: boolean };
  read_bytes: number;
  rows: number;
  accepted: number;
  rejected: number;
  replaced: number | null;
  dropped: number;
  empty_cells: number;
  causes: Record<string, number>;
  rejects: { line: number; field?: string; reason: string }[];
  rejects_bytes: number;
  notes: string[];
  new_metrics: string[];
  new_tags: string[];
  new_series: number;
  first: string | null;
  last: string | null;
  failure: string | null;
}

export interface Refusals {
  since: string;
  causes: { cause: string; text: string; count: number; dataset: string; time: string; example: string }[];
}

export interface TailReport {
  dataset: string;
  time: string;
  accepted: number;
  rejected: number;
  points: { metric: string; tags: Tags; time: string; value: number | string }[];
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
  places: Place[];
  warnings: string[];
  bin_bytes: number;
  datasets: DatasetStorage[];
}

/** What was packed, by day. */
export interface Written {
  points_a_day: number;
  bytes_a_day: number;
}

/** A dataset on the disk. */
export interface DatasetStorage {
  name: string;
  bytes: number;
  points: number;
  rollup_bytes: number;
  bin_bytes: number;
  levels: { policy: string; width: string; bytes: number }[];
  written_1d: Written;
  written_7d: Written;
  written_30d: Written;
  partitions: { path: string; start: string; last: string; bytes: number; points: number }[];
}

/** A limit in force, with where it is said. */
export interface Limit {
  limit: string | null;
  place: string | null;
  source: string;
  text: string;
}

/** What is said of keeping: left out where nothing is, null for no limit. */
export interface Said {
  keep_for?: string | null | undefined;
  keep_under?: string | null | undefined;
}

/** What will be there. */
export interface Outlook {
  points_a_day: number;
  bytes_a_day: number;
  rollup_bytes_a_day: number;
  over_days: number;
  at_rest: number | null;
  at_rest_from: string | null;
  beside_a_day: number;
  in_30_days: number;
  reached: string | null;
  days_that_fit: number | null;
  recommended: number | null;
  arithmetic: string;
}

/** The partition that goes next by age. */
export interface NextToGo {
  what: string;
  at: string;
  points: number;
  bytes: number;
}

/** The store, a dataset or a metric, and what is kept of it. */
export interface Place {
  kind: "store" | "dataset" | "metric";
  name: string;
  keep_for: Limit;
  keep_under: Limit;
  live: Said;
  file: Said;
  points: number;
  bytes: number;
  packed_bytes: number;
  oldest: string | null;
  outlook: Outlook | null;
  next: NextToGo | null;
}

export interface Retention {
  volume: { total: number; free: number; reserve: number } | null;
  places: Place[];
  differing: string[];
  warnings: string[];
  config_file: string | null;
}

export interface RetentionChange {
  before: Place;
  after: Place;
  expires: {
    parts: { what: string; why: string; bytes: number; for_good: boolean }[];
    points: number;
    bytes: number;
    span: [string, string] | null;
    metrics: string[];
    waiting: number;
  };
}

/** How far a level of a rollup policy is. */
export interface Level {
  width: string;
  keep_for: string | null;
  from: string | null;
  until: string | null;
  filled: number;
  /** Points of its series that are not packed yet. */
  waiting_points?: number;
  lag_seconds: number;
  out_of_date: number;
  series: number;
  windows: number;
  bytes: number;
  smaller: number | null;
  faster: number | null;
  measured: string | null;
}

export interface RollupPolicy {
  metrics?: string[];
  where?: string;
  zone?: string;
  levels: { width: string; keep_for?: string }[];
  lateness?: string;
}

export interface PolicyInfo {
  name: string;
  policy: RollupPolicy;
  metrics: string[];
  levels: Level[];
  /** What would be lost for good if it were dropped. */
  losses: string[];
}

export interface Rollups {
  policies: PolicyInfo[];
  fill_stopped: boolean;
  failure: string | null;
}

export interface LevelPreview {
  width: string;
  keep_for: string | null;
  windows_a_day: number;
  points_each: number | null;
  smaller: number | null;
  bytes_a_day: number;
  at_rest: number;
}

export interface RollupPreview {
  metrics: string[];
  series: number;
  levels: LevelPreview[];
  losses: string[];
}

export interface MetricStorage {
  dataset: string;
  metric: string | null;
  series: number;
  points: number;
  bytes: number;
  oldest: string | null;
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
  /** Of points, their metric. */
  metric?: string;
  /** Its unit, if those of the lines differ. */
  unit?: string;
  /** Of points, and of values at moments; null where none was found. */
  times?: (string | null)[];
  /** Windows that were empty, and were filled. */
  filled?: number[];
  /** Windows whose values lack points that are no longer kept. */
  partial?: number[];
  values: (Value | null)[];
}

export interface Show {
  label: string;
  unit: string | null;
  form: "windows" | "moment" | "points";
  lines: Line[];
}

export interface Answer {
  asked_at: string;
  zone: string;
  from: string;
  to: string;
  /** The moments that the query asks at. */
  moments?: string[];
  windows: { width: string | null; stepping?: string; starts: string[]; ends: string[]; partial: number[] };
  shows: Show[];
  notes: string[];
  /** What answered for which part of time, where rollups could. */
  sources: { what: string; from: string; to: string; source: string; why?: string }[];
  cost: {
    series: number;
    blocks_skipped: number;
    blocks_summarised: number;
    blocks_decoded: number;
    points_read: number;
    windows_read: number;
    milliseconds: number;
    stages: { planning: number; reading: number; computing: number; writing: number };
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
  tree: QueryTree | null;
  problem: Problem | null;
}

/** What a query would read and compute. */
export interface PlanDocument {
  query: string;
  zone: string;
  from: string;
  to: string;
  time: string;
  reads: {
    what: string;
    series: number;
    lines: number;
    how: string;
    points: number | null;
    bytes: number | null;
  }[];
  sources: Answer["sources"];
  shows: { label: string; unit: string | null; lines: number }[];
  notes: string[];
}

export interface Completions {
  start: number;
  end: number;
  suggestions: { text: string; kind: string; detail?: string }[];
}

/** The JSON form of a query: its syntax tree. */
export interface QueryTree {
  lets?: { name: string; expr: Expr }[];
  shows: ShowTree[];
  frame?: unknown;
}

export interface ShowTree {
  expr: Expr;
  keeping?: { comparison: string; number: number };
  rank?: { end: "top" | "bottom"; count: number; by?: string };
  label?: string;
  unit?: { in: string } | { unit: string };
}

export type Expr =
  | { number: number }
  | { negate: Expr }
  | { binary: { operator: string; left: Expr; right: Expr } }
  | { call: { function: string; of: Expr; arguments?: number[] } }
  | { reduction: Reduction }
  | { points: Selection }
  | { selection: Selection };

export interface Reduction {
  reducer: string;
  of: { selection: Selection } | { lines: Expr };
  grouping?: "overall" | { by: string[] };
}

export interface Selection {
  metric: { dataset?: string; metric: string };
  condition?: Condition;
  earlier?: string;
}

export type Condition =
  | { all: Condition[] }
  | { any: Condition[] }
  | { not: Condition }
  | { is: { tag: string; texts: string[]; listed?: boolean; negated?: boolean } }
  | { matches: { tag: string; pattern: string; negated?: boolean } }
  | { has: string }
  | { lacks: string }
  | { value: { comparison: string; number: number } };
