/** What the form and the buttons do to a query's tree. Pure: trees in, trees out. */
import type { Condition, Expr, QueryTree, Reduction, Selection, ShowTree } from "../../api/types";

/** The parts of a show that the form has fields for. */
export interface SimpleShow {
  reducer: string;
  metric: string;
  tests: { tag: string; sign: Sign; text: string }[];
  by: string[] | "overall" | null;
}

export const SIGNS = ["=", "!=", "in", "not in", "matches", "not matches"] as const;
export type Sign = (typeof SIGNS)[number];

/** A show as fields, if all of it fits into them. */
export function simple(show: ShowTree): SimpleShow | null {
  if (!("reduction" in show.expr)) return null;
  const { reducer, of, grouping } = show.expr.reduction;
  if (!("selection" in of) || of.selection.metric.dataset !== undefined || of.selection.earlier !== undefined)
    return null;
  const tests = testsOf(of.selection.condition);
  if (tests === null) return null;
  const by = grouping === undefined || grouping === "apart" ? null : grouping === "overall" ? "overall" : grouping.by;
  return { reducer, metric: of.selection.metric.metric, tests, by };
}

function testsOf(condition: Condition | null | undefined): SimpleShow["tests"] | null {
  if (!condition) return [];
  const parts = "all" in condition ? condition.all : [condition];
  const tests: SimpleShow["tests"] = [];
  for (const part of parts) {
    if ("is" in part) {
      const { tag, texts, listed = false, negated = false } = part.is;
      tests.push({ tag, sign: listed ? (negated ? "not in" : "in") : negated ? "!=" : "=", text: texts.join(", ") });
    } else if ("matches" in part) {
      const { tag, pattern, negated = false } = part.matches;
      tests.push({ tag, sign: negated ? "not matches" : "matches", text: pattern });
    } else return null;
  }
  return tests;
}

/** The expression of a show that was filled into the fields. */
export function expression({ reducer, metric, tests, by }: SimpleShow): Expr {
  const parts = tests.filter(({ tag }) => tag !== "").map(conditionOf);
  const selection: Selection = { metric: { metric } };
  const condition = joined(parts);
  if (condition !== undefined) selection.condition = condition;
  const reduction: Reduction = { reducer, of: { selection } };
  if (by === "overall") reduction.grouping = "overall";
  else if (by !== null && by.length > 0) reduction.grouping = { by };
  return { reduction };
}

function conditionOf({ tag, sign, text }: SimpleShow["tests"][number]): Condition {
  const negated = sign === "!=" || sign.startsWith("not");
  if (sign.endsWith("matches")) return { matches: { tag, pattern: text, negated } };
  const listed = sign.endsWith("in");
  return { is: { tag, texts: listed ? text.split(/\s*,\s*/) : [text], listed, negated } };
}

function joined(parts: Condition[]): Condition | undefined {
  return parts.length > 1 ? { all: parts } : parts[0];
}

/** Every selection of an expression, changed. */
export function eachSelection(expr: Expr, change: (selection: Selection) => Selection): Expr {
  const within = (inner: Expr) => eachSelection(inner, change);
  if ("negate" in expr) return { negate: within(expr.negate) };
  if ("binary" in expr) {
    const { operator, left, right } = expr.binary;
    return { binary: { operator, left: within(left), right: within(right) } };
  }
  if ("call" in expr) return { call: { ...expr.call, of: within(expr.call.of) } };
  if ("points" in expr) return { points: change(expr.points) };
  if ("selection" in expr) return { selection: change(expr.selection) };
  if ("reduction" in expr) {
    const { of } = expr.reduction;
    const changed = "selection" in of ? { selection: change(of.selection) } : { lines: within(of.lines) };
    return { reduction: { ...expr.reduction, of: changed } };
  }
  return expr;
}

/** What `let` gives a name is looked up first: a selection of that name is none. */
function named(tree: QueryTree): Set<string> {
  return new Set((tree.lets ?? []).map(({ name }) => name));
}

function everywhere(tree: QueryTree, change: (selection: Selection) => Selection): QueryTree {
  const names = named(tree);
  const changed = (selection: Selection) => (names.has(selection.metric.metric) ? selection : change(selection));
  const shows = tree.shows.map((show) => ({ ...show, expr: eachSelection(show.expr, changed) }));
  const lets = tree.lets?.map((given) => ({ ...given, expr: eachSelection(given.expr, changed) }));
  return { ...tree, shows, ...(lets === undefined ? {} : { lets }) };
}

/** The query with one more condition on each metric that has the tag. */
export function withTag(
  tree: QueryTree,
  tag: string,
  value: string,
  excluded: boolean,
  hasTag: (metric: string) => boolean,
): QueryTree {
  const test: Condition = { is: { tag, texts: [value], negated: excluded } };
  return everywhere(tree, (selection) => {
    if (!hasTag(selection.metric.metric)) return selection;
    const before = selection.condition;
    const others = !before ? [] : "all" in before ? before.all : [before];
    // An earlier condition on that value is replaced.
    const kept = others.filter((part) => !("is" in part && part.is.tag === tag && part.is.texts.join() === value));
    const condition = joined([...kept, test]);
    return condition === undefined ? selection : { ...selection, condition };
  });
}

/** The query with each show a second time, that much earlier. */
export function compared(tree: QueryTree, span: string): QueryTree {
  const earlier = (selection: Selection): Selection => ({ ...selection, earlier: span });
  const lets = tree.lets ?? [];
  const before = (name: string) => `${name}_${span}_earlier`;
  const names = named(tree);
  const changed = (selection: Selection): Selection =>
    names.has(selection.metric.metric)
      ? { ...selection, metric: { metric: before(selection.metric.metric) } }
      : earlier(selection);
  const moreLets = lets.map(({ name, expr }) => ({ name: before(name), expr: eachSelection(expr, changed) }));
  const moreShows = tree.shows
    .filter((show) => !("points" in show.expr))
    .map((show) => {
      const again: ShowTree = { ...show, expr: eachSelection(show.expr, changed) };
      if (show.label !== undefined) again.label = `${show.label}, ${span} earlier`;
      return again;
    });
  return {
    ...tree,
    shows: [...tree.shows, ...moreShows],
    ...(lets.length > 0 ? { lets: [...lets, ...moreLets] } : {}),
  };
}

/** Metrics that a query reads. */
export function metricsOf(tree: QueryTree): string[] {
  const found = new Set<string>();
  everywhere(tree, (selection) => {
    found.add(selection.metric.metric);
    return selection;
  });
  return [...found];
}
