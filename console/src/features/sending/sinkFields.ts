/** The form fields for each kind of sink. All other keys are edited as text. */
import { choice, type Field, number, secret, tags, text, texts, wide } from "../definitions/field";

/** What is sent, and how it changes on its way. */
const CONTENT: readonly Field[] = [
  text("where", "condition on tags", 'reach = "upper"'),
  tags("tags", "constant tags", "origin=north"),
  texts("metrics", "metrics, one in each line (none: all)", "level"),
];

const BATCH: readonly Field[] = [number("batch_points", "points of a batch"), text("batch_after", "sent after", "1s")];

const KINDS: Record<string, readonly Field[]> = {
  forward: [
    wide("url", "address of the other service", "https://central.velmar.example:7430"),
    text("into", "dataset there", "the same"),
    secret("token", "token"),
    ...CONTENT,
  ],
  http: [
    wide("url", "address", "https://control.velmar.example/points"),
    choice("format", "format", ["json-lines", "csv", "arrow"]),
    secret("bearer", "bearer token"),
    ...BATCH,
    ...CONTENT,
  ],
  files: [
    wide("path", "folder", "/var/lib/points"),
    choice("format", "format", ["parquet", "csv", "json-lines"]),
    text("name", "names of files", "{dataset}/{date}/{part}"),
    ...BATCH,
    ...CONTENT,
  ],
};

/** The fields of a kind; none if it is unknown. */
export const fieldsOf = (kind: unknown): readonly Field[] => (typeof kind === "string" ? KINDS[kind] : undefined) ?? [];
