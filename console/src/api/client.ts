import type { Answer, Checked, DatasetInfo, LatestPoint, MetricInfo, Overview, Page, Problem, TagInfo } from "./types";

/** A call that failed: what the service said, or that it did not answer. */
export class CallError extends Error {
  readonly problem: Problem | null;

  constructor(problem: Problem | null, message: string) {
    super(message);
    this.name = "CallError";
    this.problem = problem;
  }
}

async function call<T>(path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  const init: RequestInit =
    body === undefined
      ? {}
      : { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) };
  let response: Response;
  try {
    response = await fetch(path, signal ? { ...init, signal } : init);
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new CallError(null, "The service does not answer. Is it still running?");
  }
  const answer: unknown = await response.json().catch(() => null);
  if (response.ok && answer !== null) return answer as T;
  const problem = answer as Problem | null;
  throw new CallError(
    problem,
    problem?.detail ?? `The service answered ${response.status}, and nothing that can be read.`,
  );
}

const of = (dataset: string): string => `/api/v1/datasets/${encodeURIComponent(dataset)}`;

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
