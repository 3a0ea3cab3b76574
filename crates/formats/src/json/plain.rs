//! The common form of an object with a point, read without taking memory: all texts borrowed from the body, all values simple.
//!
//! Whatever is not of this form, right or wrong (an escape in a text, a field that nobody knows), is left to the reader of all forms, which
//! can say what is wrong with it. That one costs twice as much.

use std::fmt;

use fenetre_core::model::ValueRef;
use serde::{
    Deserialize, Deserializer,
    de::{DeserializeSeed, Error, MapAccess, Visitor},
};

/// A point, or several of one instant.
#[derive(Default)]
pub struct Plain<'b> {
    pub time: Option<&'b str>,
    pub unit: Option<&'b str>,
    /// The metric and its value, where there is one.
    pub single: Option<(&'b str, ValueRef<'b>)>,
}

/// Lists that are used again for each object.
#[derive(Default)]
pub struct Lists<'b> {
    pub tags: Vec<(&'b str, &'b str)>,
    /// Metrics and their values, where there are several.
    pub values: Vec<(&'b str, ValueRef<'b>)>,
}

/// Reads one object; `None` where it is of another form.
pub fn read<'b>(text: &'b str, lists: &mut Lists<'b>) -> Option<Plain<'b>> {
    lists.tags.clear();
    lists.values.clear();
    let mut deserializer = serde_json::Deserializer::from_str(text);
    let plain = Object(lists).deserialize(&mut deserializer).ok()?;
    deserializer.end().ok()?;
    (plain.single.is_some() == lists.values.is_empty()).then_some(plain)
}

struct Object<'l, 'b>(&'l mut Lists<'b>);

impl<'b> DeserializeSeed<'b> for Object<'_, 'b> {
    type Value = Plain<'b>;

    fn deserialize<D: Deserializer<'b>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'b> Visitor<'b> for Object<'_, 'b> {
    type Value = Plain<'b>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'b>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let (mut time, mut metric, mut value, mut unit) = (None, None, None, None);
        while let Some(key) = map.next_key::<&'b str>()? {
            let is_new = match key {
                "metric" => metric.replace(map.next_value::<&'b str>()?).is_none(),
                "time" => time.replace(map.next_value::<&'b str>()?).is_none(),
                "unit" => unit.replace(map.next_value::<&'b str>()?).is_none(),
                "value" => value.replace(map.next_value::<Simple<'b>>()?.0).is_none(),
                "tags" => {
                    let is_new = self.0.tags.is_empty();
                    map.next_value_seed(Texts(&mut self.0.tags))?;
                    is_new
                }
                "values" => {
                    let is_new = self.0.values.is_empty();
                    map.next_value_seed(Values(&mut self.0.values))?;
                    is_new && !self.0.values.is_empty()
                }
                _ => false,
            };
            if !is_new {
                return Err(A::Error::custom("of another form"));
            }
        }
        match (metric, value) {
            (Some(metric), Some(value)) => Ok(Plain { time, unit, single: Some((metric, value)) }),
            (None, None) => Ok(Plain { time, unit, single: None }),
            _ => Err(A::Error::custom("of another form")),
        }
    }
}

/// An object of texts.
struct Texts<'l, 'b>(&'l mut Vec<(&'b str, &'b str)>);

impl<'b> DeserializeSeed<'b> for Texts<'_, 'b> {
    type Value = ();

    fn deserialize<D: Deserializer<'b>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'b> Visitor<'b> for Texts<'_, 'b> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object of texts")
    }

    fn visit_map<A: MapAccess<'b>>(self, mut map: A) -> Result<(), A::Error> {
        while let Some(entry) = map.next_entry()? {
            self.0.push(entry);
        }
        Ok(())
    }
}

/// An object of simple values.
struct Values<'l, 'b>(&'l mut Vec<(&'b str, ValueRef<'b>)>);

impl<'b> DeserializeSeed<'b> for Values<'_, 'b> {
    type Value = ();

    fn deserialize<D: Deserializer<'b>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'b> Visitor<'b> for Values<'_, 'b> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object of values")
    }

    fn visit_map<A: MapAccess<'b>>(self, mut map: A) -> Result<(), A::Error> {
        while let Some((metric, value)) = map.next_entry::<&'b str, Simple<'b>>()? {
            self.0.push((metric, value.0));
        }
        Ok(())
    }
}

/// A number or a text.
struct Simple<'b>(ValueRef<'b>);

impl<'de: 'b, 'b> Deserialize<'de> for Simple<'b> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct SimpleVisitor;

        impl<'de> Visitor<'de> for SimpleVisitor {
            type Value = Simple<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a number or a text")
            }

            fn visit_f64<E>(self, number: f64) -> Result<Self::Value, E> {
                Ok(Simple(ValueRef::Number(number)))
            }

            fn visit_i64<E>(self, number: i64) -> Result<Self::Value, E> {
                Ok(Simple(super::integer(number.into())))
            }

            fn visit_u64<E>(self, number: u64) -> Result<Self::Value, E> {
                Ok(Simple(super::integer(number.into())))
            }

            fn visit_borrowed_str<E>(self, text: &'de str) -> Result<Self::Value, E> {
                Ok(Simple(ValueRef::Word(text)))
            }
        }

        deserializer.deserialize_any(SimpleVisitor)
    }
}
