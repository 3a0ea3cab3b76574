import { expect, test } from "vitest";

import { allows, fits, mayDo } from "./caller";
import type { CallerInfo } from "./types";

const caller = (grants: string[], metrics: string[] = []): CallerInfo => ({
  who: "board",
  kind: "session",
  grants,
  metrics,
  limits: {},
  expires: null,
  address: null,
  is_open: false,
});

test("patterns fit whole names", () => {
  expect(fits("plant-*", "plant-east")).toBe(true);
  expect(fits("velmar", "velmar2")).toBe(false);
  expect(fits("a.b", "axb")).toBe(false);
});

test("larger grants include smaller ones, but writing is not reading", () => {
  expect(allows(["define:velmar"], "read", "velmar")).toBe(true);
  expect(allows(["write:velmar"], "read", "velmar")).toBe(false);
  expect(allows(["read:velmar"], "read", "main")).toBe(false);
  expect(allows(["admin"], "define")).toBe(true);
  expect(allows(["admin:velmar"], "admin")).toBe(false);
});

test("a token for some metrics changes nothing", () => {
  expect(mayDo(caller(["read:velmar", "write:velmar"], ["flow_*"]), "write", "velmar")).toBe(true);
  expect(mayDo(caller(["read"], ["flow_*"]), "read")).toBe(false);
  expect(mayDo(undefined, "read", "velmar")).toBe(false);
});
