//! OTLP metrics, as protobuf and as JSON.
//!
//! | OTLP | becomes |
//! |---|---|
//! | gauge | a gauge |
//! | sum, monotonic | a counter; of delta temporality where the sum is |
//! | sum, not monotonic | a gauge |
//! | histogram | a histogram of that temporality |
//! | exponential histogram | a histogram whose bounds are the powers that its scale says |
//! | summary | a gauge with the tag `quantile`, and counters with `_sum` and `_count` |
//!
//! Attributes of a point become tags of their names; so do those of the resource, with `resource.` before the name where the point has one of
//! the same name; name and version of the scope become the tags `otel.scope.name` and `otel.scope.version`. Lines of rejects are the points of
//! the body, counted from 1.

mod histogram;
mod json;
mod tags;

use fenetre_core::{
    model::{About, Cause, Histogram, Kind, PointRef, PointSink, Refusal, Temporality, ValueRef},
    time::Nanos,
};
use opentelemetry_proto::tonic::{
    collector::metrics::v1::ExportMetricsServiceRequest,
    common::v1::KeyValue,
    metrics::v1::{AggregationTemporality, Metric, NumberDataPoint, SummaryDataPoint, metric::Data, number_data_point::Value},
};
use prost::Message;

use self::tags::{Context, PointTags};
use crate::{FormatError, Output, Reader, Tally};

/// Reads an export request, which is one whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Export {
    /// `application/x-protobuf`
    Protobuf,
    /// `application/json`
    Json,
}

/// The flag of a point without a value (`DataPointFlags`).
const NO_RECORDED_VALUE: u32 = 1;

impl Reader for Export {
    fn read(&mut self, bytes: &[u8], is_last: bool, out: &mut Output<'_>) -> Result<usize, FormatError> {
        if !is_last {
            return Ok(0);
        }
        let request = match self {
            Self::Protobuf => {
                ExportMetricsServiceRequest::decode(bytes).map_err(|error| FormatError::Unreadable { format: "OTLP", reason: error.to_string() })?
            }
            Self::Json => json::decode(bytes)?,
        };
        let mut walk = Walk { sink: out.sink, tally: out.tally, number: 0 };
        for resource in &request.resource_metrics {
            let attributes = resource.resource.as_ref().map_or(&[][..], |resource| &resource.attributes);
            for scope in &resource.scope_metrics {
                let context = Context::new(attributes, scope.scope.as_ref());
                scope.metrics.iter().for_each(|metric| walk.metric(metric, &context));
            }
        }
        let points = walk.number;
        out.tally.rows += points;
        Ok(bytes.len())
    }
}

struct Walk<'w> {
    sink: &'w mut dyn PointSink,
    tally: &'w mut Tally,
    /// Of the last point.
    number: u64,
}

impl Walk<'_> {
    fn metric(&mut self, metric: &Metric, context: &Context) {
        let name = metric.name.as_str();
        match &metric.data {
            None => {}
            Some(Data::Gauge(gauge)) => self.numbers(metric, Kind::Gauge, None, &gauge.data_points, context),
            Some(Data::Sum(sum)) => match (temporality(sum.aggregation_temporality), sum.is_monotonic) {
                (None, _) => self.refuse_all(sum.data_points.len(), "the sum does not say its aggregation temporality"),
                (Some(temporality), true) => self.numbers(metric, Kind::Counter, Some(temporality), &sum.data_points, context),
                (Some(temporality), false) => {
                    if temporality == Temporality::Delta {
                        self.tally.note(format!("`{name}` is a sum of changes that can go down: it is kept as a gauge of changes"));
                    }
                    self.numbers(metric, Kind::Gauge, None, &sum.data_points, context);
                }
            },
            Some(Data::Histogram(histogram)) => match temporality(histogram.aggregation_temporality) {
                None => self.refuse_all(histogram.data_points.len(), "the histogram does not say its aggregation temporality"),
                Some(temporality) => {
                    self.describe(name, metric, Kind::Histogram, Some(temporality));
                    for point in &histogram.data_points {
                        self.histogram(name, &point.attributes, (point.time_unix_nano, point.flags), context, histogram::explicit(point));
                    }
                }
            },
            Some(Data::ExponentialHistogram(histogram)) => match temporality(histogram.aggregation_temporality) {
                None => self.refuse_all(histogram.data_points.len(), "the histogram does not say its aggregation temporality"),
                Some(temporality) => {
                    self.describe(name, metric, Kind::Histogram, Some(temporality));
                    for point in &histogram.data_points {
                        self.histogram(name, &point.attributes, (point.time_unix_nano, point.flags), context, histogram::exponential(point));
                    }
                }
            },
            Some(Data::Summary(summary)) => {
                self.describe(name, metric, Kind::Gauge, None);
                self.describe(&format!("{name}_sum"), metric, Kind::Counter, Some(Temporality::Cumulative));
                summary.data_points.iter().for_each(|point| self.summary(name, point, context));
            }
        }
    }

    fn describe(&mut self, name: &str, metric: &Metric, kind: Kind, temporality: Option<Temporality>) {
        let some = |text: &str| (!text.is_empty()).then(|| text.to_owned());
        let (unit, description) = (some(&metric.unit), some(&metric.description));
        let about = About { kind: Some(kind), unit: unit.as_deref(), description: description.as_deref(), temporality };
        if let Some(note) = self.sink.describe(name, about).note {
            self.tally.note(note);
        }
    }

    fn refuse_all(&mut self, points: usize, reason: &str) {
        for _ in 0..points {
            self.number += 1;
            self.tally.reject(self.number, Some("aggregation_temporality".to_owned()), reason);
        }
    }

    fn numbers(&mut self, metric: &Metric, kind: Kind, temporality: Option<Temporality>, points: &[NumberDataPoint], context: &Context) {
        self.describe(&metric.name, metric, kind, temporality);
        for point in points {
            let value = match &point.value {
                Some(Value::AsDouble(number)) => Some(ValueRef::Number(*number)),
                Some(Value::AsInt(integer)) => Some(crate::mapping::integer_value((*integer).into())),
                None => None,
            };
            self.number += 1;
            if point.flags & NO_RECORDED_VALUE != 0 {
                self.note_gap();
                continue;
            }
            let taken = value
                .ok_or_else(|| Refusal::of(Cause::Value, "value", "the point has no finite number, neither in asDouble nor in asInt"))
                .and_then(|value| self.put(&metric.name, &point.attributes, point.time_unix_nano, context, &[], value));
            self.tally.count(|| self.number, taken);
        }
    }

    fn histogram(
        &mut self,
        name: &str,
        attributes: &[KeyValue],
        (time, flags): (u64, u32),
        context: &Context,
        histogram: Result<Histogram, Refusal>,
    ) {
        self.number += 1;
        if flags & NO_RECORDED_VALUE != 0 {
            return self.note_gap();
        }
        let taken = histogram.and_then(|histogram| self.put(name, attributes, time, context, &[], ValueRef::Histogram(&histogram)));
        self.tally.count(|| self.number, taken);
    }

    fn summary(&mut self, name: &str, point: &SummaryDataPoint, context: &Context) {
        self.number += 1;
        if point.flags & NO_RECORDED_VALUE != 0 {
            return self.note_gap();
        }
        let (sum, count) = (format!("{name}_sum"), format!("{name}_count"));
        if let Some(note) = self.sink.describe(&count, About { kind: Some(Kind::Counter), ..About::default() }).note {
            self.tally.note(note);
        }
        let mut parts =
            vec![(sum.as_str(), None, ValueRef::Number(point.sum)), (count.as_str(), None, crate::mapping::integer_value(point.count.into()))];
        parts.extend(point.quantile_values.iter().map(|at| (name, Some(at.quantile.to_string()), ValueRef::Number(at.value))));
        for (metric, quantile, value) in parts {
            let more: Vec<(&str, &str)> = quantile.iter().map(|quantile| ("quantile", quantile.as_str())).collect();
            let taken = self.put(metric, &point.attributes, point.time_unix_nano, context, &more, value);
            self.tally.count(|| self.number, taken);
        }
    }

    fn note_gap(&mut self) {
        self.tally.note("points that say that no value was recorded give none".to_owned());
    }

    fn put(
        &mut self,
        metric: &str,
        attributes: &[KeyValue],
        time: u64,
        context: &Context,
        more: &[(&str, &str)],
        value: ValueRef<'_>,
    ) -> Result<(), Refusal> {
        let time = match Nanos::try_from(time) {
            Ok(0) => return Err(Refusal::of(Cause::Time, "time_unix_nano", "is missing: every point needs a time")),
            Ok(time) => time,
            Err(_) => return Err(Refusal::of(Cause::Time, "time_unix_nano", "lies after the year 2262")),
        };
        let own = PointTags::new(attributes, context);
        let tags: Vec<(&str, &str)> = own.iter().chain(more.iter().copied()).collect();
        self.sink.accept(PointRef { metric, tags: &tags, time, value })
    }
}

fn temporality(number: i32) -> Option<Temporality> {
    match AggregationTemporality::try_from(number) {
        Ok(AggregationTemporality::Cumulative) => Some(Temporality::Cumulative),
        Ok(AggregationTemporality::Delta) => Some(Temporality::Delta),
        _ => None,
    }
}

/// The answer to an export request of which some points were rejected, or none: `ExportMetricsServiceResponse`.
pub fn answer(form: Export, rejected: u64, message: &str) -> Vec<u8> {
    use opentelemetry_proto::tonic::collector::metrics::v1::{ExportMetricsPartialSuccess, ExportMetricsServiceResponse};
    let partial = (rejected > 0 || !message.is_empty()).then(|| ExportMetricsPartialSuccess {
        rejected_data_points: i64::try_from(rejected).unwrap_or(i64::MAX),
        error_message: message.to_owned(),
    });
    match form {
        Export::Protobuf => ExportMetricsServiceResponse { partial_success: partial }.encode_to_vec(),
        Export::Json => match partial {
            None => b"{}".to_vec(),
            Some(partial) => serde_json::json!({"partialSuccess": {"rejectedDataPoints": partial.rejected_data_points.to_string(), "errorMessage": partial.error_message}}).to_string().into_bytes(),
        },
    }
}

/// The body of a failure: `google.rpc.Status` with its message.
pub fn failure(form: Export, code: i32, message: &str) -> Vec<u8> {
    #[derive(Clone, PartialEq, prost::Message)]
    struct Status {
        #[prost(int32, tag = "1")]
        code: i32,
        #[prost(string, tag = "2")]
        message: String,
    }
    match form {
        Export::Protobuf => Status { code, message: message.to_owned() }.encode_to_vec(),
        Export::Json => serde_json::json!({"code": code, "message": message}).to_string().into_bytes(),
    }
}
