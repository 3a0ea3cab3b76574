//! What the first rows show of a column that is not the time.

use std::collections::BTreeSet;

use fenetre_core::{model::Kind, units};

use crate::{
    Look,
    mapping::{Column, Grouped, Notation, Role},
};

/// Marks of missing values.
pub const MARKS: [&str; 9] = ["NA", "N/A", "n/a", "NaN", "nan", "null", "NULL", "-", "--"];
const STATE_NAMES: [&str; 5] = ["state", "status", "mode", "condition", "gate"];
const COUNTER_NAMES: [&str; 4] = ["total", "count", "counter", "energy"];
/// Words in the names of columns that tell things apart.
const ID_NAMES: [&str; 26] = [
    "id", "no", "nr", "num", "number", "unit", "machine", "sensor", "device", "channel", "node", "station", "site", "port", "slot", "address",
    "line", "lane", "pump", "gate", "lock", "meter", "room", "zone", "cell", "index",
];

/// What the first rows show of a column.
pub struct Seen<'l> {
    pub name: &'l str,
    pub at: usize,
    /// Its cells that hold something.
    pub cells: Vec<&'l str>,
    pub marks: BTreeSet<&'l str>,
    notation: Notation,
    groups: Option<&'l Grouped>,
}

impl<'l> Seen<'l> {
    pub fn of(name: &'l str, at: usize, look: &'l Look) -> Self {
        let all = look.rows.iter().filter_map(|row| row.get(at)).map(|cell| cell.trim()).filter(|cell| !cell.is_empty());
        let (marks, cells): (Vec<&str>, Vec<&str>) = all.partition(|cell| MARKS.contains(cell));
        Self { name, at, cells, marks: marks.into_iter().collect(), notation: look.notation, groups: look.groups.as_ref() }
    }

    pub fn is_called(&self, names: &[&str]) -> bool {
        let own = self.name.to_lowercase();
        let words: Vec<&str> = own.split(|c: char| !c.is_alphanumeric()).collect();
        names.iter().any(|name| own == *name || words.contains(name))
    }

    /// Whether its name says that it tells things apart.
    pub fn is_called_an_id(&self) -> bool {
        self.is_called(&ID_NAMES)
    }

    fn number(&self, cell: &str) -> bool {
        self.notation.parse(cell).is_some()
    }

    pub fn is_number(&self) -> bool {
        !self.cells.is_empty() && self.cells.iter().all(|cell| self.number(cell))
    }

    /// Whether all of its cells are whole numbers.
    pub fn is_whole(&self) -> bool {
        let is_digits = |cell: &&str| cell.strip_prefix('-').unwrap_or(cell).bytes().all(|byte| byte.is_ascii_digit());
        !self.cells.is_empty() && self.cells.iter().all(is_digits)
    }

    /// Whether most of its cells are numbers; those that are not will be rejects, for a person to see.
    fn is_mostly_numbers(&self) -> bool {
        self.cells.iter().filter(|cell| self.number(cell)).count() * 2 > self.cells.len()
    }

    pub fn is_text(&self) -> bool {
        !self.cells.is_empty() && !self.is_number()
    }

    pub fn distinct(&self) -> usize {
        self.cells.iter().collect::<BTreeSet<_>>().len()
    }

    /// How numbers are read, where their thousands are grouped.
    fn notation_note(&self) -> String {
        match self.groups.filter(|grouped| self.cells.contains(&grouped.cell.as_str())) {
            Some(grouped) => format!("; {grouped}"),
            None => String::new(),
        }
    }

    /// What it is, if it is neither the time nor a part of a long table.
    pub fn guess(&self) -> (Column, String) {
        let (name, unit) = name_and_unit(self.name);
        let column = |role, name: Option<String>| Column { column: self.name.to_owned(), role, name, ..Column::default() };
        let distinct = self.distinct();
        if self.cells.is_empty() {
            return (column(Role::Skip, None), "it is empty in all rows of the sample".to_owned());
        }
        if self.name == "time" {
            return (column(Role::Skip, None), "a time, but not one that was recognised".to_owned());
        }
        let lower = self.name.to_lowercase();
        let is_id = lower == "id" || lower.ends_with("_id") || lower.ends_with(" id");
        if self.is_number() && !is_id {
            let kind = self.is_called(&COUNTER_NAMES).then_some(Kind::Counter).filter(|_| self.only_grows());
            let why = match (&unit, kind) {
                (_, Some(_)) => "numbers that only grow, by its name a counter".to_owned(),
                (Some(unit), None) => format!("numbers, in {unit} by its name"),
                (None, None) => "numbers".to_owned(),
            };
            let name = (name != self.name).then_some(name);
            return (Column { unit, kind, ..column(Role::Value, name) }, format!("{why}{}", self.notation_note()));
        }
        if !is_id && self.is_mostly_numbers() && distinct > 2 {
            let name = (name != self.name).then_some(name);
            let why = format!("mostly numbers; other cells are rejected, unless `missing` names them{}", self.notation_note());
            return (Column { unit, ..column(Role::Value, name) }, why);
        }
        if self.cells.iter().all(|cell| matches!(cell.to_lowercase().as_str(), "true" | "false")) {
            return (column(Role::State, None), "true and false".to_owned());
        }
        if self.is_called(&STATE_NAMES) && !self.is_number() {
            return (column(Role::State, None), format!("{distinct} different words, by its name a state"));
        }
        if self.is_unique() {
            return (column(Role::Skip, None), "a different text in nearly every row, so not a tag".to_owned());
        }
        (column(Role::Tag, None), self.texts())
    }

    /// How many different texts it has, in words.
    pub fn texts(&self) -> String {
        let count = |count: usize, one: &str| if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") };
        format!("{} in {}", count(self.distinct(), "different text"), count(self.cells.len(), "row"))
    }

    /// Whether nearly every row has another cell.
    pub fn is_unique(&self) -> bool {
        self.distinct() > 50 && self.distinct() * 10 > self.cells.len() * 9
    }

    fn only_grows(&self) -> bool {
        let numbers: Vec<f64> = self.cells.iter().filter_map(|cell| cell.replace(',', ".").parse().ok()).collect();
        numbers.is_sorted()
    }
}

/// A name without the unit that it carries: `level_cm`, `level [cm]`, `level (cm)`.
fn name_and_unit(name: &str) -> (String, Option<String>) {
    let short = |unit: &str| {
        Some(match unit.to_lowercase().as_str() {
            "cm" => "cm",
            "mm" => "mm",
            "m" => "m",
            "km" => "km",
            "m3s" | "m3/s" | "m³/s" => "m3/s",
            "c" | "degc" | "celsius" | "°c" => "Cel",
            "pct" | "percent" | "%" => "%",
            "v" | "volt" | "volts" => "V",
            "a" | "ampere" => "A",
            "w" | "watt" => "W",
            "kw" => "kW",
            "kwh" => "kW.h",
            "s" | "sec" | "seconds" => "s",
            "ms" => "ms",
            "bytes" => "By",
            "ntu" => "{NTU}",
            "hpa" => "hPa",
            "bar" => "bar",
            _ => return None,
        })
    };
    let bracketed = [('[', ']'), ('(', ')')].into_iter().find_map(|(open, close)| {
        let (before, rest) = name.split_once(open)?;
        let unit = rest.strip_suffix(close)?;
        Some((before.trim_end(), short(unit).map(str::to_owned).or_else(|| units::code_in_brackets(unit))))
    });
    match bracketed.or_else(|| name.rsplit_once('_').map(|(before, unit)| (before, short(unit).map(str::to_owned)))) {
        Some((plain, Some(code))) if !plain.is_empty() => (plain.to_owned(), Some(code)),
        _ => (name.to_owned(), None),
    }
}
