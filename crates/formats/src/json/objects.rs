//! Objects of any form, of which a mapping says which key is what. Keys of nested objects are parted by dots.

use fenetre_core::time::Nanos;
use serde_json::Value;

use super::{
    elements::{Element, Elements},
    fault::without_place,
};
use crate::{
    FormatError, Look, Output, Tally,
    mapping::{Cell, Mapping, Rows},
};

/// Reads objects by a mapping, which is resolved when the first one comes.
pub struct Objects {
    mapping: Mapping,
    rows: Option<(Vec<String>, Rows)>,
}

impl Objects {
    pub fn new(mapping: Mapping) -> Self {
        Self { mapping, rows: None }
    }

    /// Reads an object.
    pub fn read(&mut self, element: Element<'_>, out: &mut Output<'_>) -> Result<(), FormatError> {
        let line = element.line;
        let object: Value = match serde_json::from_str(element.text) {
            Ok(Value::Object(object)) => Value::Object(object),
            Ok(_) => {
                out.tally.reject(line, None, "it is not an object, which a mapping needs");
                return Ok(());
            }
            Err(error) => {
                let (line, column) = element.place_of(&error);
                out.tally.reject(line, None, format!("{} (column {column})", without_place(&error)));
                return Ok(());
            }
        };
        if self.rows.is_none() {
            let names = self.names(&object);
            let rows = Rows::new(&self.mapping, &names.iter().map(String::as_str).collect::<Vec<_>>())?;
            rows.describe(out.sink, out.tally);
            self.rows = Some((names, rows));
        }
        if let Some((names, rows)) = &self.rows {
            rows.take(&|at| cell(&object, &names[at]), &mut Vec::new(), &mut || line, out);
        }
        Ok(())
    }

    /// What the mapping names, and the keys of the first object. A key that an object lacks is an empty cell, so the mapping's need not be there.
    fn names(&self, first: &Value) -> Vec<String> {
        let mut names = Vec::new();
        flatten(first, "", &mut |name, _| names.push(name));
        let named = self.mapping.time.column.iter().chain(self.mapping.columns.iter().map(|column| &column.column));
        for name in named {
            if !names.contains(name) {
                names.push(name.clone());
            }
        }
        names
    }

    pub fn note_now(&self, now: Nanos, tally: &mut Tally) {
        if let Some((_, rows)) = &self.rows {
            rows.note_now(now, tally);
        }
    }
}

fn flatten<'v>(value: &'v Value, prefix: &str, give: &mut dyn FnMut(String, &'v Value)) {
    let Value::Object(object) = value else { return };
    for (key, value) in object {
        let name = if prefix.is_empty() { key.clone() } else { format!("{prefix}.{key}") };
        match value {
            Value::Object(_) => flatten(value, &name, give),
            other => give(name, other),
        }
    }
}

fn find<'v>(value: &'v Value, name: &str) -> Option<&'v Value> {
    if let Some(found) = value.get(name) {
        return Some(found);
    }
    // A key may hold dots itself, so each dot may part two keys.
    name.match_indices('.').find_map(|(at, _)| find(value.get(&name[..at])?, &name[at + 1..]))
}

fn cell<'v>(object: &'v Value, name: &str) -> Cell<'v> {
    match find(object, name) {
        None | Some(Value::Null) => Cell::Empty,
        Some(Value::String(text)) => Cell::Text(text.trim()),
        Some(Value::Bool(truth)) => Cell::Bool(*truth),
        Some(Value::Number(number)) => match (number.as_i64(), number.as_u64(), number.as_f64()) {
            (Some(integer), _, _) => Cell::Integer(integer.into()),
            (_, Some(integer), _) => Cell::Integer(integer.into()),
            (_, _, Some(number)) => Cell::Number(number),
            _ => Cell::Unusable("a number beyond the range of 64-bit floats"),
        },
        Some(Value::Array(_)) => Cell::Unusable("a list"),
        Some(Value::Object(_)) => Cell::Unusable("an object"),
    }
}

/// The first objects as rows, with their keys as names.
///
/// # Errors
/// [`FormatError::Json`] for what is none.
pub fn look(start: &[u8], are_lines: bool, most: usize) -> Result<Look, FormatError> {
    let mut objects: Vec<Value> = Vec::new();
    let mut add = |text: &str| {
        if objects.len() < most
            && let Ok(value @ Value::Object(_)) = serde_json::from_str(text)
        {
            objects.push(value);
        }
    };
    if are_lines {
        String::from_utf8_lossy(start).lines().for_each(&mut add);
    } else {
        Elements::default().read(start, false, |element| add(element.text))?;
        add(&String::from_utf8_lossy(start));
    }
    let mut names: Vec<String> = Vec::new();
    for object in &objects {
        flatten(object, "", &mut |name, _| {
            if !names.contains(&name) {
                names.push(name);
            }
        });
    }
    let cell = |object: &Value, name: &str| match find(object, name) {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(text)) => text.clone(),
        Some(other) => other.to_string(),
    };
    let rows = objects.iter().map(|object| names.iter().map(|name| cell(object, name)).collect()).collect();
    Ok(Look { names, rows, ..Look::default() })
}
