import { readFileSync } from "node:fs";

import { expect, test } from "vitest";

import { unitText } from "./units";

test("units have the same text as in the core", () => {
  const table = readFileSync("../crates/core/src/unit_text.tsv", "utf8");
  const examples = table.split("\n").filter((line) => line.includes("\t"));
  expect(examples.length).toBeGreaterThan(20);
  for (const example of examples) {
    const [code, text] = example.split("\t");
    expect([code, unitText(code)]).toEqual([code, text]);
  }
});
