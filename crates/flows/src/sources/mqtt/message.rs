//! Messages to points: topics become tags and metrics, payloads values.

use std::{
    collections::{BTreeMap, HashMap},
    str,
};

use fenetre_core::{
    model::{About, Cause, Kind, PointRef, Refusal, ValueRef},
    time::Nanos,
};
use fenetre_formats::{
    Format,
    mapping::{Mapping, Notation, Role},
};

use super::super::gather::Gather;
use crate::{
    broker::Message,
    definition::{METRIC, Mqtt, Values},
};

/// Mappings of different metrics that are kept.
const MAX_MAPPINGS: usize = 10_000;

/// Turns messages into points.
pub struct Decoder {
    format: Option<Format>,
    max_bytes: usize,
    /// Mappings with the metric of a topic.
    mappings: HashMap<String, Mapping>,
}

impl Decoder {
    pub fn new(mqtt: &Mqtt, max_bytes: usize) -> Self {
        Self { format: mqtt.format(), max_bytes, mappings: HashMap::new() }
    }

    /// Adds the points of a message that arrived at `at`.
    pub fn decode(&mut self, mqtt: &Mqtt, message: &Message, at: Nanos, gather: &mut Gather<'_>) {
        let refuse = |gather: &mut Gather<'_>, topic: &str, cause: Cause, reason: String| {
            gather.refuse(Refusal { field: None, reason, cause }, || shortened(topic));
        };
        gather.read(message.payload.len());
        let Ok(topic) = str::from_utf8(&message.topic) else {
            return refuse(gather, &String::from_utf8_lossy(&message.topic), Cause::Tag, "the topic is not UTF-8".to_owned());
        };
        if message.payload.len() > self.max_bytes {
            let reason = format!("the message has {} bytes, more than `max_bytes` allows ({})", message.payload.len(), self.max_bytes);
            return refuse(gather, topic, Cause::Unreadable, reason);
        }
        let mut found = Vec::new();
        // A broker may send what the filter matches, but not the pattern: a level may have text around its name.
        if !mqtt.topics.iter().any(|pattern| pattern.find(topic, &mut found)) {
            return;
        }
        let metric = found.iter().position(|(name, _)| *name == METRIC).map(|at| found.remove(at).1);
        let by_type = || message.content_type.as_deref().and_then(|kind| Format::of_type(kind.split(';').next().unwrap_or_default().trim()));
        if let Some(format) = self.format.or_else(by_type) {
            let mapping = match (metric, &mqtt.mapping) {
                (Some(metric), Some(mapping)) => Some(self.mapping_of(metric, mapping)),
                (_, mapping) => mapping.clone().or_else(|| matches!(format, Format::Csv | Format::Tsv).then(Mapping::default)),
            };
            let mut tags: BTreeMap<String, String> = mqtt.tags.clone();
            tags.extend(found.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())));
            return gather.body((format, mapping), &tags, message.payload.to_vec(), at, topic);
        }
        let Some(metric) = metric.or(mqtt.metric.as_deref()) else {
            return refuse(gather, topic, Cause::Tag, "the topic names no metric".to_owned());
        };
        let Ok(text) = str::from_utf8(&message.payload).map(str::trim) else {
            return refuse(gather, topic, Cause::Unreadable, "the message is not UTF-8".to_owned());
        };
        if text.is_empty() {
            return refuse(gather, topic, Cause::Value, "the message is empty".to_owned());
        }
        let number = Notation::default().parse(text);
        let value = match (mqtt.values, number) {
            (Values::Words, _) => ValueRef::Word(text),
            (Values::Numbers, None) => {
                return refuse(gather, topic, Cause::Value, format!("`{}` is not a number", shortened(text)));
            }
            (Values::Numbers, Some(number)) => number,
            (Values::Any, Some(_)) if gather.sink(|sink| sink.kind_of(metric)) == Some(Kind::State) => ValueRef::Word(text),
            (Values::Any, Some(number)) => number,
            (Values::Any, None) => ValueRef::Word(text),
        };
        if mqtt.values == Values::Words {
            gather.describe(metric, About { kind: Some(Kind::State), ..About::default() });
        }
        gather.point(PointRef { metric, tags: &found, time: at, value }, || topic.to_owned());
    }

    /// The mapping with its value named after the metric of a topic.
    fn mapping_of(&mut self, metric: &str, mapping: &Mapping) -> Mapping {
        if let Some(known) = self.mappings.get(metric) {
            return known.clone();
        }
        let mut named = mapping.clone();
        for column in named.columns.iter_mut().filter(|column| matches!(column.role, Role::Value | Role::State)) {
            column.name = Some(metric.to_owned());
        }
        if self.mappings.len() >= MAX_MAPPINGS {
            self.mappings.clear();
        }
        self.mappings.insert(metric.to_owned(), named.clone());
        named
    }
}

/// At most 100 characters of a text, for a sentence.
fn shortened(text: &str) -> String {
    let plain = text.chars().map(|letter| if letter.is_control() { ' ' } else { letter });
    if text.chars().count() > 100 { plain.take(100).chain("…".chars()).collect() } else { plain.collect() }
}
