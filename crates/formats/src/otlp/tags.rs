//! Attributes as tags.

use opentelemetry_proto::tonic::common::v1::{AnyValue, InstrumentationScope, KeyValue, any_value::Value};

/// What the resource and the scope say, for all of their points.
pub struct Context {
    resource: Vec<(String, String)>,
    scope: Vec<(&'static str, String)>,
}

impl Context {
    pub fn new(resource: &[KeyValue], scope: Option<&InstrumentationScope>) -> Self {
        let of_scope = |scope: &InstrumentationScope| [("otel.scope.name", scope.name.clone()), ("otel.scope.version", scope.version.clone())];
        let scope = scope.map(of_scope).into_iter().flatten().filter(|(_, value)| !value.is_empty()).collect();
        Self { resource: texts(resource), scope }
    }
}

/// Tags of one point.
pub struct PointTags<'c> {
    own: Vec<(String, String)>,
    /// Of the resource, under another name where the point has one of the same.
    renamed: Vec<(String, &'c str)>,
    context: &'c Context,
}

impl<'c> PointTags<'c> {
    pub fn new(attributes: &[KeyValue], context: &'c Context) -> Self {
        let own = texts(attributes);
        let is_own = |key: &str| own.iter().any(|(known, _)| known == key);
        let renamed =
            context.resource.iter().filter(|(key, _)| is_own(key)).map(|(key, value)| (format!("resource.{key}"), value.as_str())).collect();
        Self { own, renamed, context }
    }

    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        let is_own = |key: &str| self.own.iter().any(|(known, _)| known == key);
        let own = self.own.iter().map(|(key, value)| (key.as_str(), value.as_str()));
        let resource = self.context.resource.iter().map(|(key, value)| (key.as_str(), value.as_str())).filter(move |(key, _)| !is_own(key));
        let scope = self.context.scope.iter().map(|(key, value)| (*key, value.as_str())).filter(move |(key, _)| !is_own(key));
        own.chain(resource).chain(self.renamed.iter().map(|(key, value)| (key.as_str(), *value))).chain(scope)
    }
}

/// Attributes as texts; those without a value are left out.
fn texts(attributes: &[KeyValue]) -> Vec<(String, String)> {
    let text = |attribute: &KeyValue| Some((attribute.key.clone(), plain(attribute.value.as_ref()?)?)).filter(|(_, value)| !value.is_empty());
    attributes.iter().filter_map(text).collect()
}

fn plain(value: &AnyValue) -> Option<String> {
    match value.value.as_ref()? {
        Value::StringValue(text) => Some(text.clone()),
        other => match json(other) {
            serde_json::Value::String(text) => Some(text),
            value => Some(value.to_string()),
        },
    }
}

fn json(value: &Value) -> serde_json::Value {
    let inner = |value: &AnyValue| value.value.as_ref().map_or(serde_json::Value::Null, json);
    match value {
        Value::StringValue(text) => text.as_str().into(),
        Value::BoolValue(truth) => (*truth).into(),
        Value::IntValue(integer) => (*integer).into(),
        Value::DoubleValue(number) => (*number).into(),
        Value::ArrayValue(list) => list.values.iter().map(inner).collect(),
        Value::KvlistValue(list) => {
            list.values.iter().map(|entry| (entry.key.clone(), entry.value.as_ref().map_or(serde_json::Value::Null, inner))).collect()
        }
        Value::BytesValue(bytes) => bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>().into(),
        // Indices into a table that only profiles have.
        _ => serde_json::Value::Null,
    }
}
