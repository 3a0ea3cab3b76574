//! The open standards: what each body becomes, and what of it is refused or passed over.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod notebook;

use ciborium::Value;
use fenetre_formats::{Format, otlp};
use notebook::{in_parts, rendered};
use proptest::prelude::*;

const EXPOSITION: &str = r#"# TYPE boats counter
# HELP boats Boats through the lock, \"both\" ways
boats_total{lock="osier",way="up"} 17 1777626000 # {trace="a"} 1
boats_created{lock="osier",way="up"} 1777000000
# TYPE lockage_seconds histogram
# UNIT lockage_seconds seconds
lockage_seconds_bucket{lock="osier",le="300"} 4 1777626000
lockage_seconds_bucket{lock="osier",le="600"} 6 1777626000
lockage_seconds_bucket{lock="osier",le="+Inf"} 7 1777626000
lockage_seconds_count{lock="osier"} 7 1777626000
lockage_seconds_sum{lock="osier"} 2100.5 1777626000
lockage_seconds_bucket{lock="marl",le="+Inf"} 2 1777626000
# TYPE gate stateset
gate{lock="osier",gate="open"} 1 1777626000
gate{lock="osier",gate="closed"} 0 1777626000
gate{lock="marl",gate="open"} 0 1777626000
# TYPE build info
build_info{version="1.2"} 1
# TYPE wait summary
wait{quantile="0.5"} 3
wait_sum 90
wait_count 30
# TYPE level gauge
level{lock="osier"} 312.5 1777626000.25
level{lock="marl"} NaN
stray 4
# EOF
"#;

#[test]
fn an_exposition_of_every_type() {
    insta::assert_snapshot!(rendered(Format::OpenMetrics, EXPOSITION.as_bytes()));
}

#[test]
fn expositions_with_faults() {
    let bodies = [
        "level 3\n",
        "# EOF\nlevel 3\n",
        "# TYPE level meter\nlevel{ 3\n\n# a comment\nlevel 3 99999999999999\n# EOF",
        "# TYPE h histogram\nh_bucket{le=\"1\"} 5\nh_bucket{le=\"+Inf\"} 4\nh_bucket{x=\"1\",le=\"1\"} 5\nh_bucket{x=\"2\",le=\"+Inf\"} 4\nh_count{x=\"2\"} 5\nh_sum{x=\"2\"} 5\nh_bucket{x=\"3\"} 1\nh_bucket{x=\"3\",le=\"+Inf\"} 1.5\n# EOF",
        "# TYPE boats counter\nboats 3\n# EOF",
        "# TYPE gate stateset\ngate{lock=\"osier\"} 1\n# EOF",
    ];
    insta::assert_snapshot!(bodies.map(|body| rendered(Format::OpenMetrics, body.as_bytes())).join("\n"));
}

#[test]
fn senml_in_json() {
    let bodies = [
        r#"[{"bn":"urn:dev:ow:10e2073a0108006:","bt":1777626000.001,"bu":"A","bver":5,"n":"voltage","u":"V","v":120.1},
 {"n":"current","t":-5,"v":1.2},
 {"n":"current","t":-4,"v":1.3,"s":50,"ut":10,"extra":1}]"#,
        r#"[{"n":"osier/gate","vs":"open"},{"n":"osier/pump","vb":true},{"n":"osier/photo","vd":"aGk"}]"#,
        r#"[{"bn":"osier/","bv":20,"bs":100},{"n":"temp","v":1.5},{"n":"temp","t":-60},{"n":"energy","s":3}]"#,
        r#"[{"n":"humidity","u":"%RH","v":20,"t":-3600},{"n":"level"},{"v":3},{"n":"a b","v":3},{"n":"_x","v":3},{"n":"level","v":"3"},{"n":"level","v":3,"vs":"x"},{"n":"level","v":3,"must_":1},{"n":"level","v":3,"t":9e99},7]"#,
        r#"[{"bver":11,"n":"level","v":3}]"#,
        r#"[{"n":"level","v":3}"#,
    ];
    insta::assert_snapshot!(bodies.map(|body| rendered(Format::SenmlJson, body.as_bytes())).join("\n"));
}

#[test]
fn senml_in_cbor() {
    let map = |fields: Vec<(i64, Value)>| Value::Map(fields.into_iter().map(|(label, value)| (Value::from(label), value)).collect());
    let pack = Value::Array(vec![
        map(vec![(-2, "osier:".into()), (-3, 1_777_626_000.into()), (-4, "cm".into()), (0, "level".into()), (2, 312.5.into())]),
        map(vec![(0, "level".into()), (6, 60.into()), (2, Value::Tag(4, Box::new(Value::Array(vec![Value::from(-1), Value::from(3130)]))))]),
        map(vec![(0, "gate".into()), (3, "open".into())]),
        map(vec![(0, "photo".into()), (8, Value::Bytes(vec![1, 2]))]),
        Value::Map(vec![("n".into(), "level".into()), ("v".into(), 4.into()), (Value::from(77), 1.into())]),
        Value::from(3),
    ]);
    let mut bytes = Vec::new();
    ciborium::into_writer(&pack, &mut bytes).unwrap();
    let lines = |body: &[u8]| rendered(Format::SenmlCbor, body).lines().filter(|line| !line.starts_with('>')).collect::<Vec<_>>().join("\n");
    insta::assert_snapshot!([lines(&bytes), lines(&bytes[..20]), lines(b"\x01"), lines(&[bytes.clone(), vec![1]].concat()), lines(b"")].join("\n"));
}

const EXPORT: &str = r#"{"resourceMetrics": [{
  "resource": {"attributes": [{"key": "service.name", "value": {"stringValue": "keeper"}}, {"key": "lock", "value": {"stringValue": "site"}}]},
  "scopeMetrics": [{"scope": {"name": "gauges", "version": "2"}, "metrics": [
    {"name": "level", "unit": "cm", "description": "Water level", "gauge": {"dataPoints": [
      {"timeUnixNano": "1777626000000000000", "asDouble": 312.5, "attributes": [{"key": "lock", "value": {"stringValue": "osier"}}, {"key": "pump", "value": {"intValue": "2"}}]},
      {"timeUnixNano": 1777626000000000000, "asInt": 9007199254740993},
      {"timeUnixNano": "1777626000000000000"}, {"asDouble": 3}, {"timeUnixNano": "1777626000000000000", "flags": 1}]}},
    {"name": "boats", "sum": {"aggregationTemporality": 2, "isMonotonic": true, "dataPoints": [{"timeUnixNano": "1777626000000000000", "asInt": "17"}]}},
    {"name": "commands", "sum": {"aggregationTemporality": "AGGREGATION_TEMPORALITY_DELTA", "isMonotonic": true, "dataPoints": [{"timeUnixNano": "1777626000000000000", "asInt": "2"}]}},
    {"name": "queue", "sum": {"aggregationTemporality": 1, "dataPoints": [{"timeUnixNano": "1777626000000000000", "asInt": "-2"}]}},
    {"name": "odd", "sum": {"isMonotonic": true, "dataPoints": [{"timeUnixNano": "1777626000000000000", "asInt": "2"}]}},
    {"name": "lockage", "unit": "s", "histogram": {"aggregationTemporality": 1, "dataPoints": [
      {"timeUnixNano": "1777626000000000000", "count": "7", "sum": 2100.5, "bucketCounts": ["4", "2", 1], "explicitBounds": [300, 600]}]}},
    {"name": "wait", "summary": {"dataPoints": [{"timeUnixNano": "1777626000000000000", "count": 3, "sum": 9.5, "quantileValues": [{"quantile": 0.5, "value": 3}]}]}},
    {"name": "spread", "exponentialHistogram": {"aggregationTemporality": 2, "dataPoints": [
      {"timeUnixNano": "1777626000000000000", "count": 3, "scale": -1, "zeroCount": 1, "positive": {"offset": 0, "bucketCounts": [2]}}]}}
  ]}]}]}"#;

#[test]
fn an_export_of_every_type() {
    insta::assert_snapshot!(rendered(Format::OtlpJson, EXPORT.as_bytes()));
    insta::assert_snapshot!(
        [
            rendered(Format::OtlpJson, b"{}"),
            rendered(Format::OtlpJson, b"{"),
            rendered(Format::OtlpJson, b"{\"resourceMetrics\": 3}"),
            rendered(Format::OtlpProtobuf, b"\xff\xff"),
            rendered(Format::OtlpProtobuf, b"")
        ]
        .join("\n")
    );
}

#[test]
fn both_export_encodings_are_equal() {
    use opentelemetry_proto::tonic::collector::metrics::v1::ExportMetricsServiceRequest;
    use prost::Message;
    // What the standard's own types make of the JSON, with numbers as texts and enumerations as numbers, is what both readers must find.
    let strict = EXPORT
        .replace("\"timeUnixNano\": 1777626000000000000", "\"timeUnixNano\": \"1777626000000000000\"")
        .replace("9007199254740993", "\"9007199254740993\"")
        .replace("\"AGGREGATION_TEMPORALITY_DELTA\"", "1")
        .replace("\"count\": 3", "\"count\": \"3\"")
        .replace("\"2\", 1]", "\"2\", \"1\"]")
        .replace("\"bucketCounts\": [2]", "\"bucketCounts\": [\"2\"]");
    let request: ExportMetricsServiceRequest = serde_json::from_str(&strict).unwrap();
    let lines =
        |rendered: String| rendered.lines().filter(|line| line.starts_with("  ") && !line.starts_with("> ")).map(str::to_owned).collect::<Vec<_>>();
    assert_eq!(lines(rendered(Format::OtlpProtobuf, &request.encode_to_vec())), lines(rendered(Format::OtlpJson, strict.as_bytes())));
}

#[test]
fn export_answers() {
    use opentelemetry_proto::tonic::collector::metrics::v1::ExportMetricsServiceResponse;
    use prost::Message;
    assert_eq!(otlp::answer(otlp::Export::Protobuf, 0, ""), b"");
    assert_eq!(otlp::answer(otlp::Export::Json, 0, ""), b"{}");
    let partial = ExportMetricsServiceResponse::decode(&otlp::answer(otlp::Export::Protobuf, 2, "why")[..]).unwrap().partial_success.unwrap();
    assert_eq!((partial.rejected_data_points, partial.error_message.as_str()), (2, "why"));
    assert_eq!(String::from_utf8(otlp::failure(otlp::Export::Json, 3, "no")).unwrap(), r#"{"code":3,"message":"no"}"#);
}

proptest! {
    #[test]
    fn an_exposition_in_parts_reads_as_the_whole(cuts in prop::collection::vec(any::<prop::sample::Index>(), 1..6)) {
        prop_assert_eq!(in_parts(Format::OpenMetrics, None, EXPOSITION.as_bytes(), &cuts), in_parts(Format::OpenMetrics, None, EXPOSITION.as_bytes(), &[]));
    }

    #[test]
    fn any_bytes_are_read_or_refused(body in prop::collection::vec(any::<u8>(), 0..200), text in "[\\[{\"a-z0-9#_ \n=:,}\\]]{0,120}") {
        for format in [Format::SenmlJson, Format::SenmlCbor, Format::OpenMetrics, Format::OtlpProtobuf, Format::OtlpJson] {
            rendered(format, &body);
            rendered(format, text.as_bytes());
        }
    }
}
