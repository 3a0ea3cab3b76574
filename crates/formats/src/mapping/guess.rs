//! A mapping guessed from the first rows of a table: a proposal for a person to change, with the reason for each column.

use std::collections::BTreeSet;

use fenetre_core::{
    model::Kind,
    time::{TimeFormat, TimeRule},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Column, Dialect, Mapping, Role, TimeColumn};
use crate::Look;

/// A mapping, and why.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Guess {
    /// The proposal.
    pub mapping: Mapping,
    /// A line for each column.
    pub reasons: Vec<Reason>,
}

/// Why a column was taken for what it was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    /// The column.
    pub column: String,
    /// What it was taken for: `time`, `tag`, `value`, `state`, `metric` or `skip`.
    pub taken_for: String,
    /// Why.
    pub why: String,
}

/// Patterns of times that are tried, beside ISO and epoch numbers.
const PATTERNS: [&str; 8] = [
    "%d.%m.%Y %H:%M:%S",
    "%d.%m.%Y %H:%M",
    "%d/%m/%Y %H:%M:%S",
    "%d/%m/%Y %H:%M",
    "%Y/%m/%d %H:%M:%S",
    "%Y/%m/%d %H:%M",
    "%Y%m%d%H%M%S",
    "%d %b %Y %H:%M:%S",
];
const MARKS: [&str; 9] = ["NA", "N/A", "n/a", "NaN", "nan", "null", "NULL", "-", "--"];
const TIME_NAMES: [&str; 10] = ["time", "timestamp", "ts", "date", "datetime", "at", "when", "epoch", "zeit", "hora"];
const METRIC_NAMES: [&str; 8] = ["metric", "measurement", "variable", "parameter", "signal", "quantity", "sensor_type", "name"];
const VALUE_NAMES: [&str; 4] = ["value", "val", "reading", "result"];
const STATE_NAMES: [&str; 5] = ["state", "status", "mode", "condition", "gate"];
const COUNTER_NAMES: [&str; 4] = ["total", "count", "counter", "energy"];

/// Guesses a mapping. `zone` is that of the dataset, for times without an offset.
pub fn guess(look: &Look, zone: &str) -> Guess {
    let columns: Vec<Seen<'_>> = look.names.iter().enumerate().map(|(at, name)| Seen::of(name, at, look)).collect();
    let time = columns
        .iter()
        .filter_map(|column| Some((column, column.time()?)))
        .max_by_key(|(column, _)| (column.is_called(&TIME_NAMES), std::cmp::Reverse(column.at)));
    let mut guessed = Guess::default();
    let mapping = &mut guessed.mapping;
    mapping.table = Dialect { decimal: look.decimal_comma.then_some(','), ..Dialect::default() };
    mapping.missing = MARKS.iter().filter(|mark| columns.iter().any(|column| column.marks.contains(*mark))).map(|mark| (*mark).to_owned()).collect();
    let names_metrics = columns.iter().find(|column| column.is_text() && column.is_called(&METRIC_NAMES));
    let long_value = columns.iter().find(|column| column.is_number() && column.is_called(&VALUE_NAMES));
    let long = names_metrics.zip(long_value);
    for column in &columns {
        let name = column.name.to_owned();
        let mut tell = |taken_for: &str, why: String| guessed.reasons.push(Reason { column: name.clone(), taken_for: taken_for.to_owned(), why });
        if let Some((_, found)) = time.as_ref().filter(|(time, _)| time.at == column.at) {
            let (format, why) = match &found.format {
                TimeFormat::Iso => (None, "ISO times"),
                TimeFormat::Epoch(unit) => (Some(unit.as_str().to_owned()), "numbers of the size of times"),
                TimeFormat::Pattern(pattern) => (Some(pattern.clone()), "dates by that pattern"),
                TimeFormat::Guess => (None, "times"),
            };
            let zone = found.zone.is_some().then(|| zone.to_owned());
            let told = if zone.is_some() {
                format!("{why} without an offset, taken for those of {}", zone.as_deref().unwrap_or("?"))
            } else {
                why.to_owned()
            };
            tell("time", told);
            mapping.time = TimeColumn { column: Some(name), format, zone, ..TimeColumn::default() };
            continue;
        }
        let (column, why) = match long {
            Some((names, _)) if names.at == column.at => (
                Column { column: name.clone(), role: Role::Metric, ..Column::default() },
                "its words name metrics, whose values stand beside them".to_owned(),
            ),
            Some((_, value)) if value.at == column.at => {
                (Column { column: name.clone(), role: Role::Value, ..Column::default() }, "the value of the metric that the row names".to_owned())
            }
            _ => column.guess(),
        };
        tell(
            match column.role {
                Role::Value => "value",
                Role::State => "state",
                Role::Tag => "tag",
                Role::Metric => "metric",
                Role::Skip => "skip",
            },
            why,
        );
        if column.role != Role::Skip {
            mapping.columns.push(column);
        }
    }
    guessed
}

/// What the first rows show of a column.
struct Seen<'l> {
    name: &'l str,
    at: usize,
    cells: Vec<&'l str>,
    marks: BTreeSet<&'l str>,
    decimal_comma: bool,
}

impl<'l> Seen<'l> {
    fn of(name: &'l str, at: usize, look: &'l Look) -> Self {
        let (marks, cells): (Vec<&str>, Vec<&str>) =
            look.rows.iter().filter_map(|row| row.get(at)).map(String::as_str).filter(|cell| !cell.is_empty()).partition(|cell| MARKS.contains(cell));
        Self { name, at, cells, marks: marks.into_iter().collect(), decimal_comma: look.decimal_comma }
    }

    fn is_called(&self, names: &[&str]) -> bool {
        let own = self.name.to_lowercase();
        let words: Vec<&str> = own.split(|c: char| !c.is_alphanumeric()).collect();
        names.iter().any(|name| own == *name || words.contains(name))
    }

    fn is_number(&self) -> bool {
        let plain = |cell: &str| if self.decimal_comma { cell.replace('.', "").replace(',', ".") } else { cell.to_owned() };
        !self.cells.is_empty() && self.cells.iter().all(|cell| plain(cell).parse::<f64>().is_ok())
    }

    /// Whether most of its cells are numbers; those that are not will be rejects, for a person to see.
    fn is_mostly_numbers(&self) -> bool {
        let plain = |cell: &str| if self.decimal_comma { cell.replace('.', "").replace(',', ".") } else { cell.to_owned() };
        let numbers = self.cells.iter().filter(|cell| plain(cell).parse::<f64>().is_ok()).count();
        numbers * 2 > self.cells.len()
    }

    fn is_text(&self) -> bool {
        !self.cells.is_empty() && !self.is_number()
    }

    /// How its cells are read as times, if they can be.
    fn time(&self) -> Option<TimeRule> {
        let utc = Some(jiff::tz::TimeZone::UTC);
        let fits = |rule: &TimeRule| !self.cells.is_empty() && self.cells.iter().all(|cell| rule.read(cell).is_ok());
        if self.is_number() && !self.is_called(&TIME_NAMES) {
            return None;
        }
        if self.is_number() {
            let number: f64 = self.cells.first()?.parse().ok()?;
            // Numbers of these days, of whichever unit.
            let unit = fenetre_core::time::EpochUnit::guess(number);
            return (number > 1e8).then(|| TimeRule { format: TimeFormat::Epoch(unit), ..TimeRule::default() }).filter(fits);
        }
        let formats = [(TimeFormat::Iso, None), (TimeFormat::Iso, utc.clone())];
        let patterns = PATTERNS.iter().map(|pattern| (TimeFormat::Pattern((*pattern).to_owned()), utc.clone()));
        formats.into_iter().chain(patterns).map(|(format, zone)| TimeRule { format, zone, ..TimeRule::default() }).find(fits)
    }

    /// What it is, where it is neither the time nor a part of a long table.
    fn guess(&self) -> (Column, String) {
        let (name, unit) = name_and_unit(self.name);
        let column = |role, name: Option<String>| Column { column: self.name.to_owned(), role, name, ..Column::default() };
        let distinct = self.cells.iter().collect::<BTreeSet<_>>().len();
        if self.cells.is_empty() {
            return (column(Role::Skip, None), "it is empty in all rows that were looked at".to_owned());
        }
        let lower = self.name.to_lowercase();
        if self.is_number() && !(lower == "id" || lower.ends_with("_id") || lower.ends_with(" id")) {
            let kind = self.is_called(&COUNTER_NAMES).then_some(Kind::Counter).filter(|_| self.only_grows());
            let why = match (&unit, kind) {
                (_, Some(_)) => "numbers that only grow, by its name a counter".to_owned(),
                (Some(unit), None) => format!("numbers, in {unit} by its name"),
                (None, None) => "numbers".to_owned(),
            };
            let name = (name != self.name).then_some(name);
            return (Column { unit, kind, ..column(Role::Value, name) }, why);
        }
        if self.is_mostly_numbers() && distinct > 2 {
            let name = (name != self.name).then_some(name);
            return (Column { unit, ..column(Role::Value, name) }, "mostly numbers; what is none is rejected, unless `missing` names it".to_owned());
        }
        if self.cells.iter().all(|cell| matches!(cell.to_lowercase().as_str(), "true" | "false")) {
            return (column(Role::State, None), "true and false".to_owned());
        }
        if self.is_called(&STATE_NAMES) {
            return (column(Role::State, None), format!("{distinct} different words, by its name a state"));
        }
        if distinct > 50 && distinct * 10 > self.cells.len() * 9 {
            return (column(Role::Skip, None), "a different text in nearly every row, which no tag should be".to_owned());
        }
        let words = if distinct == 1 { "one text".to_owned() } else { format!("{distinct} different texts") };
        (column(Role::Tag, None), format!("{words} in {} rows", self.cells.len()))
    }

    fn only_grows(&self) -> bool {
        let numbers: Vec<f64> = self.cells.iter().filter_map(|cell| cell.replace(',', ".").parse().ok()).collect();
        numbers.is_sorted()
    }
}

/// A name without the unit that it carries: `level_cm`, `level [cm]`, `level (cm)`.
fn name_and_unit(name: &str) -> (String, Option<String>) {
    let code = |unit: &str| {
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
    let split = [('[', ']'), ('(', ')')].into_iter().find_map(|(open, close)| {
        let (before, rest) = name.split_once(open)?;
        Some((before.trim_end(), rest.strip_suffix(close)?))
    });
    match split.or_else(|| name.rsplit_once('_')) {
        Some((plain, unit)) if !plain.is_empty() => match code(unit) {
            Some(code) => (plain.to_owned(), Some(code.to_owned())),
            None => (name.to_owned(), None),
        },
        _ => (name.to_owned(), None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn guessed(table: &str) -> String {
        let look = crate::csv::look(table.as_bytes(), &Mapping::default(), None, 100).unwrap();
        let guess = guess(&look, "Europe/Lisbon");
        guess.mapping.check().unwrap();
        let reasons: Vec<String> = guess.reasons.iter().map(|reason| format!("# {}: {}, {}", reason.column, reason.taken_for, reason.why)).collect();
        format!("{}\n\n{}", reasons.join("\n"), guess.mapping.to_toml())
    }

    #[test]
    fn tables_of_many_hands_are_guessed() {
        insta::assert_snapshot!(
            "wide",
            guessed(
                "time,lock,side,level_cm,gate,pump_energy_kwh\n2026-05-01T09:00:00Z,osier,up,312.5,open,10\n2026-05-01T09:10:00Z,osier,down,NA,closed,12\n"
            )
        );
        insta::assert_snapshot!(
            "decimal_commas",
            guessed("Zeit;Schleuse;Pegel [cm];Temp (°C)\n01.05.2026 09:00;osier;312,5;14,2\n01.05.2026 09:10;marl;1.280,25;14,1\n")
        );
        insta::assert_snapshot!(
            "mostly_numbers",
            guessed(
                "time,level,open,note\n2026-05-01T09:00:00Z,1,true,\n2026-05-01T09:01:00Z,2,false,\n2026-05-01T09:02:00Z,broken,true,\n2026-05-01T09:03:00Z,3,true,\n"
            )
        );
        insta::assert_snapshot!("long", guessed("timestamp,station_id,parameter,value\n1777626000,7,flow,4.1\n1777626060,7,turbidity,9\n"));
    }
}
