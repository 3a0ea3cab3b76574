/** Who uses the console, and what the token behind the session allows. The service decides; this only hides actions that it would refuse. */
import { useQuery } from "@tanstack/react-query";

import { sessionQuery } from "./queries";
import type { CallerInfo } from "./types";

export type Action = "write" | "read" | "define" | "admin";

const INCLUDES: Record<Action, readonly Action[]> = {
  write: ["write"],
  read: ["read"],
  define: ["write", "read", "define"],
  admin: ["write", "read", "define", "admin"],
};

/** Whether a name fits a pattern in which `*` matches any characters. */
export function fits(pattern: string, name: string): boolean {
  const escaped = pattern.split("*").map((part) => part.replace(/[.*+?^${}()|[\]\\]/g, "\\$&"));
  return new RegExp(`^${escaped.join(".*")}$`).test(name);
}

/** Whether grants such as `read:plant-*` allow an action on a dataset, or, without a dataset, on all of them. */
export function allows(grants: readonly string[], action: Action, dataset?: string): boolean {
  return grants.some((grant) => {
    const [word, scope = "*"] = grant.split(":");
    if (!INCLUDES[word as Action]?.includes(action)) return false;
    return dataset === undefined ? /^\*+$/.test(scope) : fits(scope, dataset);
  });
}

/** Whether the caller has a grant on a dataset, or, without a dataset, on the whole store. */
export function mayDo(caller: CallerInfo | undefined, action: Action, dataset?: string): boolean {
  if (!caller) return false;
  // Definitions and deletions concern metrics that a token for some of them does not see.
  if (caller.metrics.length > 0 && (action === "define" || action === "admin" || dataset === undefined)) return false;
  return allows(caller.grants, action, dataset);
}

/** Checks grants of the person who uses the console. */
export function useMay(): (action: Action, dataset?: string) => boolean {
  const { data } = useQuery(sessionQuery);
  return (action, dataset) => mayDo(data, action, dataset);
}
