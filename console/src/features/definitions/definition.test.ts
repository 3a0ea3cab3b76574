import { expect, test } from "vitest";

import { at, numberOf, put, read, tagsOf, tagText, write } from "./definition";

const TEXT = `kind = "poll"
every = "10s"
targets = [{ url = "http://127.0.0.1:9100/metrics", tags = { host = "control" } }]
[mapping]
time = { column = "at" }
`;

test("a definition is read from TOML and JSON alike, and what is neither is not", () => {
  const read_ = read(TEXT);
  expect(read(JSON.stringify(read_))).toEqual(read_);
  expect(read(write(read_ ?? {}))).toEqual(read_);
  expect(read("kind = ")).toBeUndefined();
  expect(read("[1]")).toEqual({ 1: {} });
  expect(read("{")).toBeUndefined();
});

test("a value is put in its place, and everything else stays", () => {
  const before = read(TEXT) ?? {};
  const after = put(put(before, ["mapping", "time", "zone"], "Europe/Lisbon"), ["every"], "1m");
  expect(at(after, ["mapping", "time"])).toEqual({ column: "at", zone: "Europe/Lisbon" });
  expect(Object.keys(after)).toEqual(Object.keys(before));
  expect(at(after, ["every"])).toBe("1m");
  expect(at(before, ["every"])).toBe("10s");
});

test("what is emptied goes, with the tables around it", () => {
  const before = read(TEXT) ?? {};
  expect(put(before, ["mapping", "time", "column"], "")).not.toHaveProperty("mapping");
  expect(put(before, ["every"], undefined)).not.toHaveProperty("every");
  expect(at(before, ["every", "inner"])).toBeUndefined();
});

test("tags are read once they are whole", () => {
  expect(tagsOf(" lock=osier  side=up")).toEqual({ lock: "osier", side: "up" });
  expect(tagsOf("lock=osier side=")).toBeUndefined();
  expect(tagsOf("lock")).toBeUndefined();
  expect(tagsOf("=osier")).toBeUndefined();
  expect(tagsOf("")).toEqual({});
  expect(tagText({ lock: "osier", side: "up" })).toBe("lock=osier side=up");
  expect(tagText(undefined)).toBe("");
});

test("numbers are numbers, and the rest stays text", () => {
  expect(numberOf("0.1")).toBe(0.1);
  expect(numberOf("1e")).toBe("1e");
  expect(numberOf(" ")).toBe(" ");
});
