/** What travels, under the names that pages use. The shapes are generated from the API's description: see `types.mjs`. */

import type * as schema from "./schema";

export type {
  ByteSize,
  CallerInfo,
  ChangeInfo,
  ChangePage,
  Checked,
  Completions,
  Condition,
  CreatedToken,
  DatasetStorage,
  Defined,
  DefinedMetric,
  DefinedFlow,
  Deletion,
  Differences,
  Expr,
  GuessQuestion,
  Histogram,
  ImportLook,
  ImportRecord,
  Kind,
  LatestPoint,
  LevelPreview,
  Mapping,
  MetricStorage,
  Overview,
  PlanDocument,
  PolicyInfo,
  Problem,
  Reduction,
  Reference,
  PushingCaller,
  Refusals,
  RetentionChange,
  Role,
  RollupPolicy,
  RollupPreview,
  Selection,
  SecretInfo,
  SeriesTrouble,
  AsideBatch,
  SinkInfo,
  SinkTrial,
  SinkVerification,
  FlowEvent,
  FlowExample,
  SourceInfo,
  SourcePart,
  SourceSeries,
  SourceTrial,
  StorageInfo,
  TagDefinition,
  TagInfo,
  TailReport,
  TokenInfo,
  Trouble,
  TokenOrder,
  Value,
} from "./schema";

export type Answer = schema.AnswerDocument;
export type Show = schema.ShowDocument;
export type Line = schema.LineDocument;
export type Tags = Line["tags"];

/** The syntax tree of a query, and of one `show` in it. */
export type QueryTree = schema.Query;
export type ShowTree = schema.Show;

/** What a request may omit of a definition, and a response always has. */
type Complete<T, K extends keyof T> = T & Required<Pick<T, K>>;

export type MetricDefinition = Complete<
  schema.MetricDefinition,
  "kind" | "shape" | "description" | "status" | "when_paused"
>;
export type MetricInfo = MetricDefinition & schema.MetricInfo;
export type DatasetInfo = Complete<schema.DatasetInfo, "zone" | "description" | "closed">;
export type MappingColumn = schema.Column;
export type BinItem = schema.BinItemInfo;

export type Retention = schema.RetentionInfo;
export type Place = schema.PlaceInfo;
export type Limit = schema.LimitInfo;
export type LimitSettings = schema.LimitSettings;
export type Outlook = schema.OutlookInfo;
export type NextToGo = schema.NextInfo;
export type Rollups = schema.RollupsInfo;
export type Level = schema.LevelInfo;

/** A page of a long list. */
export interface Page<T> {
  total: number;
  items: T[];
}
