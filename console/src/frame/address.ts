/** What the address bar holds: dataset, frame and query, so that a link reopens what was seen. */
import { useCallback } from "react";
import { useSearchParams } from "react-router";

export interface Place {
  dataset: string;
  over: string;
  per: string;
  zone: string;
  gaps: string;
  query: string;
}

export const DEFAULT_OVER = "last 24h";
export const DEFAULT_PER = "auto";

export function readPlace(parameters: URLSearchParams): Place {
  return {
    dataset: parameters.get("dataset") ?? "",
    over: parameters.get("over") ?? DEFAULT_OVER,
    per: parameters.get("per") ?? DEFAULT_PER,
    zone: parameters.get("zone") ?? "",
    gaps: parameters.get("gaps") ?? "",
    query: parameters.get("q") ?? "",
  };
}

export function writePlace(place: Place): URLSearchParams {
  const parameters = new URLSearchParams();
  if (place.dataset !== "") parameters.set("dataset", place.dataset);
  if (place.over !== DEFAULT_OVER) parameters.set("over", place.over);
  if (place.per !== DEFAULT_PER) parameters.set("per", place.per);
  if (place.zone !== "") parameters.set("zone", place.zone);
  if (place.gaps !== "") parameters.set("gaps", place.gaps);
  if (place.query !== "") parameters.set("q", place.query);
  return parameters;
}

/** The clauses of the frame as the query language writes them; an empty field says nothing. */
export function frameText({ over, per, zone, gaps }: Pick<Place, "over" | "per" | "zone" | "gaps">): string {
  const clauses = [
    over.trim() && `over ${over.trim()}`,
    per.trim() && `per ${per.trim()}`,
    zone.trim() && `zone ${JSON.stringify(zone.trim())}`,
    gaps.trim() && `gaps ${gaps.trim()}`,
  ];
  return clauses.filter(Boolean).join(" ");
}

/** The query without its frame, from its canonical layout, in which the frame has a line of its own. */
export function withoutFrame(canonical: string): string {
  return canonical
    .trimEnd()
    .split("\n")
    .filter((line) => !/^(over|per|stepping|starting|at|taking|within|zone|gaps|from) /.test(line))
    .join("\n");
}

/** The range between two instants, as the language writes it. */
export function rangeBetween(fromMillis: number, toMillis: number): string {
  const second = (at: number) => new Date(Math.round(at / 1000) * 1000).toISOString().replace(".000Z", "Z");
  return `${second(fromMillis)} to ${second(Math.max(toMillis, fromMillis + 1000))}`;
}

export function usePlace(): [Place, (change: Partial<Place>) => void] {
  const [parameters, setParameters] = useSearchParams();
  const change = useCallback(
    (changed: Partial<Place>) => setParameters((before) => writePlace({ ...readPlace(before), ...changed })),
    [setParameters],
  );
  return [readPlace(parameters), change];
}
