/** A rollup policy as it is typed, and back. */
import { count } from "../../format/numbers";
import type { RollupPolicy } from "../../api/types";

/** The fields of the form. */
export interface Draft {
  name: string;
  /** `5m=90d 1h=2y 1d`, the finest first. */
  levels: string;
  metrics: string;
  where: string;
  zone: string;
  lateness: string;
}

export const EMPTY: Draft = {
  name: "default",
  levels: "5m=90d 1h=2y 1d",
  metrics: "",
  where: "",
  zone: "",
  lateness: "",
};

/** Levels as they are typed: `5m=90d 1h=2y 1d`, the finest first. */
export function readLevels(text: string): { width: string; keep_for?: string }[] {
  return words(text).map((part) => {
    const [width = "", keep] = part.split("=");
    return keep === undefined ? { width } : { width, keep_for: keep };
  });
}

export const writeLevels = (levels: readonly { width: string; keep_for?: string | null }[]): string =>
  levels.map(({ width, keep_for }) => (keep_for ? `${width}=${keep_for}` : width)).join(" ");

export const draftOf = (name: string, policy: RollupPolicy): Draft => ({
  name,
  levels: writeLevels(policy.levels),
  metrics: policy.metrics?.join(" ") ?? "",
  where: policy.where ?? "",
  zone: policy.zone ?? "",
  lateness: policy.lateness ?? "",
});

/** Empty fields are omitted. */
export function policyOf({ levels, metrics, where, zone, lateness }: Draft): RollupPolicy {
  const names = words(metrics);
  return {
    levels: readLevels(levels),
    ...(names.length > 0 && { metrics: names }),
    ...(where.trim() !== "" && { where: where.trim() }),
    ...(zone.trim() !== "" && { zone: zone.trim() }),
    ...(lateness.trim() !== "" && { lateness: lateness.trim() }),
  };
}

const words = (text: string): string[] => text.split(/[\s,]+/).filter((part) => part !== "");

/** How many times smaller or faster than points, or what it is instead. */
export function times(ratio: number | null, otherwise: string): string {
  if (ratio === null) return "–";
  if (ratio < 0.95) return `no, ${(1 / ratio).toFixed(1)} times ${otherwise}`;
  return `${ratio < 10 ? ratio.toFixed(1) : count(ratio)} times`;
}
