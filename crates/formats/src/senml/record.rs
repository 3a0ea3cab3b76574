//! A record of a pack as it stands, whichever form it came in.

use fenetre_core::model::{Cause, Refusal};
use serde_json::Value;

/// A record before its base fields are added.
#[derive(Default)]
pub struct Record {
    pub base_version: Option<f64>,
    pub base_name: Option<String>,
    pub base_time: Option<f64>,
    pub base_unit: Option<String>,
    pub base_value: Option<f64>,
    pub base_sum: Option<f64>,
    pub name: Option<String>,
    pub unit: Option<String>,
    pub value: Option<Field>,
    pub sum: Option<f64>,
    pub time: Option<f64>,
    pub has_update_time: bool,
    /// A field that must be understood and is not.
    pub unknown: Option<String>,
}

/// A value.
#[derive(Clone, Debug, PartialEq)]
pub enum Field {
    Number(f64),
    Text(String),
    Truth(bool),
    /// Bytes, which no point holds.
    Data,
}

impl Field {
    fn describe(&self) -> &'static str {
        match self {
            Self::Number(_) => "a number",
            Self::Text(_) => "a text",
            Self::Truth(_) => "true or false",
            Self::Data => "bytes, a list or an object",
        }
    }
}

impl Record {
    /// Reads a record of JSON.
    pub fn of_json(text: &str) -> Result<Self, Refusal> {
        let unreadable = |reason: String| Refusal { field: None, reason, cause: Cause::Unreadable };
        let object: Value = serde_json::from_str(text).map_err(|error| unreadable(error.to_string()))?;
        let Value::Object(object) = object else { return Err(unreadable("a record of SenML is an object".to_owned())) };
        let mut record = Self::default();
        for (label, value) in object {
            let field = match value {
                Value::Number(number) => Field::Number(number.as_f64().unwrap_or(f64::NAN)),
                Value::String(text) => Field::Text(text),
                Value::Bool(truth) => Field::Truth(truth),
                _ => Field::Data,
            };
            record.put(&label, field)?;
        }
        Ok(record)
    }

    /// Takes a field by its label.
    pub fn put(&mut self, label: &str, field: Field) -> Result<(), Refusal> {
        match label {
            "bver" => self.base_version = Some(number(label, &field)?),
            "bn" => self.base_name = Some(text(label, field)?),
            "bt" => self.base_time = Some(number(label, &field)?),
            "bu" => self.base_unit = Some(text(label, field)?),
            "bv" => self.base_value = Some(number(label, &field)?),
            "bs" => self.base_sum = Some(number(label, &field)?),
            "n" => self.name = Some(text(label, field)?),
            "u" => self.unit = Some(text(label, field)?),
            "v" => self.set_value(label, Field::Number(number(label, &field)?))?,
            "vs" => self.set_value(label, Field::Text(text(label, field)?))?,
            "vb" => match field {
                Field::Truth(_) => self.set_value(label, field)?,
                other => return Err(unfit(label, &other, "true or false")),
            },
            "vd" => self.set_value(label, Field::Data)?,
            "s" => self.sum = Some(number(label, &field)?),
            "t" => self.time = Some(number(label, &field)?),
            "ut" => self.has_update_time = true,
            other if other.ends_with('_') => self.unknown = Some(other.to_owned()),
            // Labels that nobody knows are passed over, as the standard wants it.
            _ => {}
        }
        Ok(())
    }

    /// Whether it has a base field.
    pub fn sets_base(&self) -> bool {
        let Self { base_version, base_name, base_time, base_unit, base_value, base_sum, .. } = self;
        base_version.is_some() || base_name.is_some() || base_time.is_some() || base_unit.is_some() || base_value.is_some() || base_sum.is_some()
    }

    fn set_value(&mut self, label: &str, field: Field) -> Result<(), Refusal> {
        if self.value.replace(field).is_some() {
            return Err(Refusal::of(Cause::Value, label, "the record has two values: one of v, vs, vb and vd may be there"));
        }
        Ok(())
    }
}

fn number(label: &str, field: &Field) -> Result<f64, Refusal> {
    match field {
        Field::Number(number) => Ok(*number),
        other => Err(unfit(label, other, "a number")),
    }
}

fn text(label: &str, field: Field) -> Result<String, Refusal> {
    match field {
        Field::Text(text) => Ok(text),
        other => Err(unfit(label, &other, "a text")),
    }
}

fn unfit(label: &str, field: &Field, wanted: &str) -> Refusal {
    Refusal::of(Cause::Unreadable, label, format!("is {}, and must be {wanted}", field.describe()))
}
