import type {
  Answer,
  BinItem,
  CallerInfo,
  ChangePage,
  Checked,
  Completions,
  CreatedToken,
  DatasetInfo,
  Defined,
  DefinedMetric,
  DefinedFlow,
  Deletion,
  Differences,
  ImportLook,
  ImportRecord,
  LatestPoint,
  Mapping,
  MetricDefinition,
  MetricInfo,
  MetricStorage,
  Overview,
  Page,
  PlanDocument,
  Problem,
  QueryTree,
  Reference,
  PushingCaller,
  Refusals,
  Retention,
  RetentionChange,
  RollupPolicy,
  RollupPreview,
  Rollups,
  LimitSettings,
  SecretInfo,
  FlowEvent,
  FlowExample,
  AsideBatch,
  SinkInfo,
  SinkTrial,
  SinkVerification,
  SourceInfo,
  SourceTrial,
  StorageInfo,
  TagDefinition,
  TagInfo,
  TokenInfo,
  TokenOrder,
} from "./types";

/** A failed call: the problem from the service, or that it did not answer. */
export class CallError extends Error {
  readonly problem: Problem | null;

  constructor(problem: Problem | null, message: string) {
    super(message);
    this.name = "CallError";
    this.problem = problem;
  }
}

/** A call with a body of JSON, if it has one. */
function call<T>(path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  return body === undefined ? send<T>("GET", path, undefined, signal) : send<T>("POST", path, body, signal);
}

async function send<T>(method: string, path: string, body?: unknown, signal?: AbortSignal, token?: string): Promise<T> {
  const init: RequestInit = { method };
  if (token !== undefined) init.headers = { Authorization: `Bearer ${token}` };
  if (body instanceof Blob) init.body = body;
  else if (body !== undefined) {
    init.headers = { "Content-Type": "application/json" };
    init.body = JSON.stringify(body);
  }
  let response: Response;
  try {
    response = await fetch(path, signal ? { ...init, signal } : init);
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new CallError(null, "The service does not answer. Is it still running?");
  }
  if (response.status === 204) return undefined as T;
  const answer: unknown = await response.json().catch(() => null);
  if (response.ok && answer !== null) return answer as T;
  const problem = answer as Problem | null;
  throw new CallError(
    problem,
    problem?.detail ?? `The service answered ${response.status}, and nothing that can be read.`,
  );
}

const of = (dataset: string): string => `/api/v1/datasets/${encodeURIComponent(dataset)}`;

export const fetchSession = (): Promise<CallerInfo> => call("/api/v1/session");
export const signIn = (token: string): Promise<CallerInfo> =>
  send("POST", "/api/v1/session", undefined, undefined, token);
export const signOut = (): Promise<unknown> => send("DELETE", "/api/v1/session");

const TOKENS = "/api/v1/tokens";
export const fetchTokens = (): Promise<TokenInfo[]> => call(TOKENS);
export const createToken = (order: TokenOrder): Promise<CreatedToken> => call(TOKENS, order);
export const rotateToken = (id: string, overlap: string | null): Promise<CreatedToken> =>
  call(`${TOKENS}/${id}/rotate`, overlap === null ? {} : { overlap });
export const suspendToken = (id: string): Promise<TokenInfo> => send("POST", `${TOKENS}/${id}/suspend`);
export const resumeToken = (id: string): Promise<TokenInfo> => send("POST", `${TOKENS}/${id}/resume`);
export const revokeToken = (id: string): Promise<TokenInfo> => send("DELETE", `${TOKENS}/${id}`);

export function fetchChanges(what: string, who: string, before: number | null): Promise<ChangePage> {
  const parameters = new URLSearchParams();
  if (what !== "") parameters.set("what", what);
  if (who !== "") parameters.set("who", who);
  if (before !== null) parameters.set("before", String(before));
  return call(`/api/v1/changes?${parameters}`);
}

const SOURCES = "/api/v1/sources";
export type SourceChange = "pause" | "resume" | "run";
const toml = (text: string): Blob => new Blob([text], { type: "application/toml" });
export const fetchSourceExamples = (): Promise<FlowExample[]> => call("/api/v1/source-examples");
export const fetchSecrets = (): Promise<SecretInfo[]> => call("/api/v1/secrets");
export const putSecret = (name: string, value: string): Promise<Defined> =>
  send("PUT", `/api/v1/secrets/${encodeURIComponent(name)}`, new Blob([value], { type: "text/plain" }));
export const removeSecret = (name: string): Promise<unknown> =>
  send("DELETE", `/api/v1/secrets/${encodeURIComponent(name)}`);
export const fetchPushingCallers = (): Promise<PushingCaller[]> => call("/api/v1/pushing-callers");
export const fetchSources = (): Promise<SourceInfo[]> => call(SOURCES);
export const fetchSourceEvents = (name: string): Promise<FlowEvent[]> => call(`${SOURCES}/${name}/events`);
export const trySource = (text: string): Promise<SourceTrial> => send("POST", `${SOURCES}/try`, toml(text));
export const putSource = (name: string, text: string): Promise<DefinedFlow> =>
  send("PUT", `${SOURCES}/${encodeURIComponent(name)}`, toml(text));
export const changeSource = (name: string, change: SourceChange): Promise<unknown> =>
  send("POST", `${SOURCES}/${name}/${change}`);
const SINKS = "/api/v1/sinks";
export type SinkChange = "pause" | "resume" | "resend";
export const fetchSinkExamples = (): Promise<FlowExample[]> => call("/api/v1/sink-examples");
export const fetchSinks = (): Promise<SinkInfo[]> => call(SINKS);
export const fetchSinkEvents = (name: string): Promise<FlowEvent[]> => call(`${SINKS}/${name}/events`);
export const trySink = (text: string): Promise<SinkTrial> => send("POST", `${SINKS}/try`, toml(text));
export const putSink = (name: string, text: string): Promise<DefinedFlow> =>
  send("PUT", `${SINKS}/${encodeURIComponent(name)}`, toml(text));
export const changeSink = (name: string, change: SinkChange): Promise<unknown> =>
  send("POST", `${SINKS}/${name}/${change}`);
export const replaySink = (name: string, over: string): Promise<unknown> =>
  send("POST", `${SINKS}/${name}/replay`, { over });
export const verifySink = (name: string, over: string): Promise<SinkVerification> =>
  send("POST", `${SINKS}/${name}/verify`, { over });
export const removeSink = (name: string): Promise<unknown> => send("DELETE", `${SINKS}/${name}`);
export const fetchAside = (sink: string): Promise<AsideBatch[]> => call(`${SINKS}/${sink}/aside`);
export const asideAddress = (sink: string, batch: number): string => `${SINKS}/${sink}/aside/${batch}`;
export const removeAside = (sink: string, batch: number): Promise<unknown> => send("DELETE", asideAddress(sink, batch));
export const removeSource = (name: string): Promise<unknown> => send("DELETE", `${SOURCES}/${name}`);

export const fetchOverview = (): Promise<Overview> => call("/api/v1/overview");
export const fetchDatasets = (): Promise<DatasetInfo[]> => call("/api/v1/datasets");
export const fetchMetrics = (dataset: string): Promise<MetricInfo[]> => call(`${of(dataset)}/metrics`);
export const fetchTags = (dataset: string): Promise<TagInfo[]> => call(`${of(dataset)}/tags`);

export function fetchLatest(dataset: string, search: string, limit: number): Promise<Page<LatestPoint>> {
  const parameters = new URLSearchParams({ limit: String(limit) });
  if (search !== "") parameters.set("search", search);
  return call(`${of(dataset)}/latest?${parameters}`);
}

export const ask = (dataset: string, query: string, frame: string, signal?: AbortSignal): Promise<Answer> =>
  call(`${of(dataset)}/ask`, { query, frame }, signal);

export const check = (dataset: string, query: string, frame: string, signal?: AbortSignal): Promise<Checked> =>
  call(`${of(dataset)}/ask/check`, { query, frame }, signal);

/** A tree as text, or what is wrong with it. */
export const checkTree = (dataset: string, tree: QueryTree, frame: string): Promise<Checked> =>
  call(`${of(dataset)}/ask/check`, { tree, frame });

export const explain = (dataset: string, query: string, frame: string): Promise<PlanDocument> =>
  call(`${of(dataset)}/ask/explain`, { query, frame });

export const complete = (dataset: string, query: string, cursor: number, signal?: AbortSignal): Promise<Completions> =>
  call(`${of(dataset)}/ask/complete`, { query, cursor }, signal);

/** The address of an answer, for other programs. */
export function answerAddress(dataset: string, query: string, frame: string): string {
  return `${of(dataset)}/ask?${new URLSearchParams({ query, ...(frame === "" ? {} : { frame }) })}`;
}

/** An answer as a file. */
export async function download(dataset: string, query: string, frame: string, type: string): Promise<Blob> {
  const response = await fetch(answerAddress(dataset, query, frame), { headers: { Accept: type } });
  if (response.ok) return response.blob();
  const problem = (await response.json().catch(() => null)) as Problem | null;
  throw new CallError(problem, problem?.detail ?? `The service answered ${response.status}.`);
}

const metricOf = (dataset: string, metric: string): string => `${of(dataset)}/metrics/${encodeURIComponent(metric)}`;

/** What becomes of points that are there, if their metric gets another unit. */
export type PointsHow = "stay" | "relabel" | "convert" | "try to convert";

const HOW: Record<PointsHow, string> = {
  stay: "",
  relabel: "?relabel=true",
  convert: "?convert=true",
  "try to convert": "?convert=true&dry_run=true",
};

export const putMetric = (
  dataset: string,
  metric: string,
  definition: MetricDefinition,
  how: PointsHow = "stay",
): Promise<DefinedMetric> => send("PUT", metricOf(dataset, metric) + HOW[how], definition);

export const renameMetric = (dataset: string, metric: string, to: string): Promise<{ references: Reference[] }> =>
  call(`${metricOf(dataset, metric)}/rename`, { to });

export const deleteMetric = (dataset: string, metric: string, dryRun: boolean): Promise<Deletion> =>
  send("DELETE", `${metricOf(dataset, metric)}?dry_run=${dryRun}`);

export const definitionsUrl = (dataset: string): string => `${of(dataset)}/definitions.csv`;

export const putDefinitions = (dataset: string, table: File, dryRun: boolean): Promise<Differences> =>
  send("POST", `${definitionsUrl(dataset)}?dry_run=${dryRun}`, table);

const tagOf = (dataset: string, key: string): string => `${of(dataset)}/tags/${encodeURIComponent(key)}`;

export const putTag = (dataset: string, key: string, definition: TagDefinition): Promise<unknown> =>
  send("PUT", tagOf(dataset, key), definition);

export const renameTag = (dataset: string, key: string, to: string): Promise<unknown> =>
  call(`${tagOf(dataset, key)}/rename`, { to });

export const forgetName = (kind: "metric" | "tag", dataset: string, name: string): Promise<unknown> =>
  call("/api/v1/forget-name", { kind, dataset, name });

export const fetchReferences = (dataset: string, metric: string): Promise<Reference[]> =>
  call(`${of(dataset)}/references?metric=${encodeURIComponent(metric)}`);

export const fetchBin = (): Promise<BinItem[]> => call("/api/v1/bin");
export const restoreBinned = (id: string): Promise<unknown> => call(`/api/v1/bin/${id}/restore`, {});
export const eraseBinned = (id: string): Promise<unknown> => send("DELETE", `/api/v1/bin/${id}`);

export const fetchRetention = (dataset: string): Promise<Retention> =>
  call(`/api/v1/retention?dataset=${encodeURIComponent(dataset)}`);

/** With `reset` the scope returns to the limits of the configuration file; with `preview` the effect is returned, and nothing changes. */
export const setRetention = (order: {
  place: string;
  limits: LimitSettings;
  reset: boolean;
  preview: boolean;
}): Promise<RetentionChange> => call("/api/v1/retention", order);

export const writeRetention = (): Promise<unknown> => send("POST", "/api/v1/retention/write-file");

export const fetchRollups = (dataset: string): Promise<Rollups> => call(`${of(dataset)}/rollups`);

/** Asks the same of each level and of points, which takes a moment. */
export const measureRollups = (dataset: string): Promise<Rollups> => call(`${of(dataset)}/rollups?measure=true`);

/** `acceptLoss` permits the loss of rollups whose points have expired, which the preview lists. */
export const putRollup = (dataset: string, name: string, policy: RollupPolicy, acceptLoss: boolean): Promise<unknown> =>
  send("PUT", `${of(dataset)}/rollups/${encodeURIComponent(name)}?accept_loss=${acceptLoss}`, policy);

export const previewRollup = (dataset: string, name: string, policy: RollupPolicy): Promise<RollupPreview> =>
  call(`${of(dataset)}/rollups/preview?name=${encodeURIComponent(name)}`, policy);

export const fillRollups = (dataset: string, stop: boolean): Promise<Rollups> =>
  call(`${of(dataset)}/rollups/fill`, { stop });

export const dropRollup = (dataset: string, name: string, acceptLoss: boolean): Promise<unknown> =>
  send("DELETE", `${of(dataset)}/rollups/${encodeURIComponent(name)}?accept_loss=${acceptLoss}`);

export const fetchStorage = (): Promise<StorageInfo> => call("/api/v1/storage");

export const fetchTop = (): Promise<MetricStorage[]> => call("/api/v1/storage/top");

export const fetchImports = (): Promise<ImportRecord[]> => call("/api/v1/imports");
export const fetchImport = (id: string): Promise<ImportRecord> => call(`/api/v1/imports/${id}`);

export const uploadImport = (dataset: string, file: File): Promise<ImportRecord> =>
  send("POST", `${of(dataset)}/imports?file=${encodeURIComponent(file.name)}`, file);

export const lookAtImport = (id: string): Promise<ImportLook> => call(`/api/v1/imports/${id}/look`, { rows: 50 });

export const runImport = (id: string, mapping: Mapping | null, dryRun: boolean): Promise<ImportRecord> =>
  call(`/api/v1/imports/${id}/run`, mapping ? { mapping, dry_run: dryRun } : { dry_run: dryRun });

export const continueImport = (id: string): Promise<ImportRecord> => send("POST", `/api/v1/imports/${id}/run`);
export const stopImport = (id: string): Promise<ImportRecord> => send("POST", `/api/v1/imports/${id}/stop`);
export const forgetImport = (id: string): Promise<unknown> => send("DELETE", `/api/v1/imports/${id}`);

export const keepMapping = (name: string, mapping: Mapping): Promise<unknown> =>
  send("PUT", `/api/v1/mappings/${encodeURIComponent(name)}`, mapping);

export const fetchRefusals = (): Promise<Refusals> => call("/api/v1/arrivals/refused");
