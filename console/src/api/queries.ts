import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";

import * as client from "./client";

/** How often what changes by itself is fetched again. */
const LIVE_MS = 2_000;

/** Dataset of the service's own metrics. */
export const OWN = "own";

export const sessionQuery = queryOptions({
  queryKey: ["session"],
  queryFn: client.fetchSession,
  // A token that was revoked, or has expired, leads back to the sign-in.
  refetchInterval: 5 * LIVE_MS,
});

export const tokensQuery = queryOptions({
  queryKey: ["tokens"],
  queryFn: client.fetchTokens,
  refetchInterval: 2 * LIVE_MS,
});

export const changesQuery = (what: string, who: string) =>
  infiniteQueryOptions({
    queryKey: ["changes", what, who],
    queryFn: ({ pageParam }) => client.fetchChanges(what, who, pageParam),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
    staleTime: 0,
  });

export const overviewQuery = queryOptions({
  queryKey: ["overview"],
  queryFn: client.fetchOverview,
  refetchInterval: LIVE_MS,
});

export const datasetsQuery = queryOptions({
  queryKey: ["datasets"],
  queryFn: client.fetchDatasets,
  refetchInterval: 5 * LIVE_MS,
});

export const metricsQuery = (dataset: string) =>
  queryOptions({ queryKey: ["metrics", dataset], queryFn: () => client.fetchMetrics(dataset) });

export const tagsQuery = (dataset: string) =>
  queryOptions({ queryKey: ["tags", dataset], queryFn: () => client.fetchTags(dataset) });

/** Series that the Catalogue lists at once; the search finds the others. */
export const MOST_SERIES = 1_000;

export const latestQuery = (dataset: string, search: string) =>
  queryOptions({
    queryKey: ["latest", dataset, search],
    queryFn: () => client.fetchLatest(dataset, search, MOST_SERIES),
    refetchInterval: 2 * LIVE_MS,
    placeholderData: keepPreviousData,
  });

export const answerQuery = (dataset: string, query: string, frame: string) =>
  queryOptions({
    queryKey: ["answer", dataset, query, frame],
    queryFn: ({ signal }) => client.ask(dataset, query, frame, signal),
    enabled: query.trim() !== "",
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });

export const checkQuery = (dataset: string, query: string, frame: string) =>
  queryOptions({
    queryKey: ["check", dataset, query, frame],
    queryFn: ({ signal }) => client.check(dataset, query, frame, signal),
    enabled: query.trim() !== "",
    staleTime: 10_000,
  });

export const explainQuery = (dataset: string, query: string, frame: string) =>
  queryOptions({ queryKey: ["explain", dataset, query, frame], queryFn: () => client.explain(dataset, query, frame) });

export const importsQuery = queryOptions({
  queryKey: ["imports"],
  queryFn: client.fetchImports,
  refetchInterval: LIVE_MS,
});

export const sourcesQuery = queryOptions({
  queryKey: ["sources"],
  queryFn: client.fetchSources,
  refetchInterval: LIVE_MS,
});

export const secretsQuery = queryOptions({ queryKey: ["secrets"], queryFn: client.fetchSecrets });

export const pushingCallersQuery = queryOptions({
  queryKey: ["pushing-callers"],
  queryFn: client.fetchPushingCallers,
  refetchInterval: LIVE_MS,
});

export const sourceExamplesQuery = queryOptions({
  queryKey: ["source-examples"],
  queryFn: client.fetchSourceExamples,
  staleTime: Infinity,
});

export const sourceEventsQuery = (name: string) =>
  queryOptions({
    queryKey: ["sources", name, "events"],
    queryFn: () => client.fetchSourceEvents(name),
    refetchInterval: 2 * LIVE_MS,
  });

export const sinksQuery = queryOptions({
  queryKey: ["sinks"],
  queryFn: client.fetchSinks,
  refetchInterval: LIVE_MS,
});

export const sinkExamplesQuery = queryOptions({
  queryKey: ["sink-examples"],
  queryFn: client.fetchSinkExamples,
  staleTime: Infinity,
});

export const sinkEventsQuery = (name: string) =>
  queryOptions({
    queryKey: ["sinks", name, "events"],
    queryFn: () => client.fetchSinkEvents(name),
    refetchInterval: 2 * LIVE_MS,
  });

export const asideQuery = (name: string) =>
  queryOptions({
    queryKey: ["sinks", name, "aside"],
    queryFn: () => client.fetchAside(name),
    refetchInterval: LIVE_MS,
  });

export const refusalsQuery = queryOptions({
  queryKey: ["refusals"],
  queryFn: client.fetchRefusals,
  refetchInterval: 2 * LIVE_MS,
});

export const binQuery = queryOptions({
  queryKey: ["bin"],
  queryFn: client.fetchBin,
  // What limits drop lies there a moment later.
  refetchInterval: 5 * LIVE_MS,
});

export const referencesQuery = (dataset: string, metric: string) =>
  queryOptions({ queryKey: ["references", dataset, metric], queryFn: () => client.fetchReferences(dataset, metric) });

export const retentionQuery = (dataset: string) =>
  queryOptions({
    queryKey: ["retention", dataset],
    queryFn: () => client.fetchRetention(dataset),
    refetchInterval: 5 * LIVE_MS,
  });

export const rollupsQuery = (dataset: string) =>
  queryOptions({
    queryKey: ["rollups", dataset],
    queryFn: () => client.fetchRollups(dataset),
    refetchInterval: 2 * LIVE_MS,
  });

export const storageQuery = queryOptions({
  queryKey: ["storage"],
  queryFn: client.fetchStorage,
  refetchInterval: 5 * LIVE_MS,
});

export const topQuery = queryOptions({ queryKey: ["top"], queryFn: client.fetchTop, staleTime: 30_000 });
