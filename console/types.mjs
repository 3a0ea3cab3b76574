// Writes the types of what travels, from the API's description, so that the console cannot differ from the service.

import { readFile, writeFile } from "node:fs/promises";

import { compile } from "json-schema-to-typescript";

const DESCRIPTION = new URL("../docs/openapi.json", import.meta.url);
const TYPES = new URL("src/api/schema.ts", import.meta.url);

const { schemas } = JSON.parse(await readFile(DESCRIPTION, "utf8")).components;

// The generator takes a reference with a description beside it for another type, and knows tuples by an older keyword.
const text = JSON.stringify(schemas, (_, part) => {
  if (part?.$ref) return { $ref: part.$ref.replace("#/components/schemas/", "#/definitions/") };
  if (part?.prefixItems) {
    const { prefixItems: items, ...rest } = part;
    return { ...rest, items, minItems: items.length, maxItems: items.length };
  }
  return part;
});

const options = {
  additionalProperties: false,
  bannerComment: "/** What travels, as the API's description says. Written by `npm run types`: not to be edited. */",
  format: false,
  unreachableDefinitions: true,
};
await writeFile(TYPES, await compile({ definitions: JSON.parse(text) }, "Schema", options));
