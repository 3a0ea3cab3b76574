/** The state of a sink in words. */
import type { SinkInfo } from "../../api/types";
import { count } from "../../format/numbers";
import { ahead, lasting } from "../../format/times";

/** Kinds whose destination can be read. */
const READABLE = ["forward", "sql"];

/** Whether its points can be compared with those of the destination. Windows of a query cannot. */
export const isComparable = ({ kind, definition }: Pick<SinkInfo, "kind" | "definition">): boolean =>
  READABLE.includes(kind) && !(typeof definition === "object" && definition !== null && "query" in definition);

/** Its state, how far it is behind, and its error. */
export function stateOf({ state, behind, error, next, set_aside: aside }: SinkInfo, now: number): string {
  const more = [
    ...(state === "healthy" || behind.points === 0 ? [] : [`${count(behind.points)} points behind`]),
    ...(behind.caught_up_in === null || state !== "behind"
      ? []
      : [`caught up in about ${lasting(behind.caught_up_in)}`]),
    ...(error === null ? [] : [error]),
    ...(error === null || next === null ? [] : [`next attempt ${ahead(next, now)}`]),
    ...(aside === 0 ? [] : [aside === 1 ? "1 batch set aside" : `${count(aside)} batches set aside`]),
  ];
  return [state, ...more].join(", ");
}
