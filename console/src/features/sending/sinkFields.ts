/** The form fields for each kind of sink. All other keys are edited as text. */
import { choice, type Field, number, secret, tags, text, texts, wide } from "../definitions/field";

/** What is sent, and how it changes on its way. */
const CONTENT: readonly Field[] = [
  text("where", "condition on tags", 'reach = "upper"'),
  tags("tags", "constant tags", "origin=north"),
  texts("metrics", "metrics, one in each line (none: all)", "level"),
  wide("query", "or windows of a query", "show mean of level by lock per 1m"),
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
    wide("path", "folder", "/var/lib/points or s3://points/velmar"),
    text("endpoint", "address of the object store"),
    text("access_key", "access key"),
    secret("secret_key", "secret key"),
    choice("format", "format", ["parquet", "csv", "json-lines"]),
    text("name", "names of files", "{dataset}/{date}/{part}"),
    ...BATCH,
    ...CONTENT,
  ],
  sql: [
    wide("database", "database", "postgresql://127.0.0.1:5432/control"),
    text("table", "table", "readings"),
    text("user", "user"),
    secret("password", "password"),
    text("columns.time", "column of the time", "time"),
    text("columns.metric", "column of the metric", "metric"),
    text("columns.value", "column of numbers", "value"),
    text("columns.word", "column of words", "word"),
    texts("drop_tags", "tags not sent, one in each line", "side"),
    ...CONTENT,
  ],
  mqtt: [
    wide("broker", "broker", "mqtt://127.0.0.1:1883"),
    wide("topic", "topic", "velmar/{lock}/{metric}"),
    choice("payload", "message", ["json", "value", "json-lines"]),
    number("qos", "quality of service: 0, 1 or 2"),
    text("user", "user"),
    secret("password", "password"),
    ...CONTENT,
  ],
};

/** The fields of a kind; none if it is unknown. */
export const fieldsOf = (kind: unknown): readonly Field[] => (typeof kind === "string" ? KINDS[kind] : undefined) ?? [];
