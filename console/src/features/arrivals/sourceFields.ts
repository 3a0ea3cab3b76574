/** The form fields for each kind of source. All other keys are edited as text. */
import { choice, type Field, number, rows, secret, tags, text, texts, wide } from "../definitions/field";

/** Fields of a mapping: the time, and the role of each column. */
const MAPPING: readonly Field[] = [
  text("mapping.time.column", "column of the time", "time"),
  text("mapping.time.format", "format of the time", "detected"),
  text("mapping.time.zone", "zone of local times", "of the dataset"),
  rows("mapping.columns", "columns", [
    text("column", "column", "level_cm"),
    choice("role", "role", ["value", "state", "tag", "metric", "unit", "skip"]),
    text("name", "stored as", "the same"),
    text("unit", "unit", "cm"),
  ]),
];

const EVERY = text("every", "every", "10s");
const STALE = text("stale_after", "stale after", "5m");

const KINDS: Record<string, readonly Field[]> = {
  poll: [
    EVERY,
    choice("format", "format", ["detected", "open-metrics", "json", "json-lines", "csv", "senml-json"]),
    STALE,
    secret("bearer", "bearer token"),
    rows("targets", "targets", [wide("url", "address", "http://127.0.0.1:9100/metrics"), tags("tags")]),
  ],
  mqtt: [
    wide("broker", "broker", "mqtt://127.0.0.1:1883"),
    texts("topics", "topics, one in each line", "velmar/{lock}/{metric}"),
    number("qos", "quality of service: 0, 1 or 2"),
    text("user", "user"),
    secret("password", "password"),
    STALE,
  ],
  modbus: [
    EVERY,
    STALE,
    text("stuck_after", "stuck after", "1h"),
    rows("devices", "devices", [text("address", "address", "10.0.0.5:502"), number("unit", "unit id"), tags("tags")]),
    rows("registers", "registers", [
      text("metric", "metric", "turbidity"),
      choice("table", "table", ["holding", "input", "coil", "discrete"]),
      number("address", "address"),
      choice("type", "type", ["u16", "i16", "u32", "i32", "u64", "i64", "f32", "f64", "bit", "text"]),
      number("scale", "scale"),
      text("unit", "unit", "{NTU}"),
    ]),
  ],
  opcua: [
    wide("endpoint", "endpoint", "opc.tcp://127.0.0.1:4840"),
    text("sampling", "sampling interval", "1s"),
    choice("security", "security", ["none", "sign", "sign-and-encrypt"]),
    text("user", "user"),
    secret("password", "password"),
    STALE,
    rows("nodes", "nodes", [
      wide("path", "browse path below Objects", "Locks/{lock}/{metric}"),
      wide("id", "or id", "ns=2;s=Osier.Level"),
      text("metric", "metric"),
      text("unit", "unit", "cm"),
      tags("tags"),
    ]),
  ],
  sql: [
    wide("database", "database", "postgresql://127.0.0.1:5432/velmar"),
    text("table", "table", "readings"),
    EVERY,
    text("user", "user"),
    secret("password", "password"),
    text("overlap", "read again", "10m"),
    ...MAPPING,
  ],
  folder: [
    wide("path", "folder", "/var/spool/keepers"),
    text("pattern", "names of files", "*.csv"),
    choice("after", "files that were read", ["move", "keep", "delete"]),
    ...MAPPING,
  ],
};

/** The fields of a kind; none if it is unknown. */
export const fieldsOf = (kind: unknown): readonly Field[] => (typeof kind === "string" ? KINDS[kind] : undefined) ?? [];
