//! A mapping guessed from the first rows of a table: a proposal for a person to change, with the reason for each column, and with questions where the
//! rows leave something open.
//!
//! | file | subject |
//! |---|---|
//! | `times` | which columns hold the time of a row, and how it is written |
//! | `columns` | what the cells of any other column are |
//! | `keys` | columns that tell rows of one instant apart |

mod columns;
mod keys;
mod times;

use std::collections::{BTreeMap, BTreeSet};

use fenetre_core::model::Kind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use self::{
    columns::{MARKS, Seen},
    times::Found,
};
use super::{Column, Dialect, Mapping, NamedMetric, Role, TimeColumn, long_column};
use crate::Look;

pub use keys::{Collisions, collisions};

/// A mapping, and why.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Guess {
    /// The proposal.
    pub mapping: Mapping,
    /// One reason per column.
    pub reasons: Vec<Reason>,
    /// What must be answered before the mapping can be used.
    #[serde(default)]
    #[schema(required)]
    pub questions: Vec<Question>,
    /// Notes for the reader.
    #[serde(default)]
    #[schema(required)]
    pub notes: Vec<String>,
}

/// Reason for the role of a column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    /// The column.
    pub column: String,
    /// Role: `time`, `time of day`, `tag`, `value`, `state`, `histogram`, `metric`, `unit` or `skip`.
    pub taken_for: String,
    /// Why.
    pub why: String,
}

/// What the rows leave open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = GuessQuestion)]
pub struct Question {
    /// What about.
    pub about: QuestionKind,
    /// The column, if it is about one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub column: Option<String>,
    /// What is not known, in a sentence.
    pub text: String,
    /// Values of `time.format` to choose from, if it is about that.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub choices: Vec<String>,
}

/// Subject of a question.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum QuestionKind {
    /// No column was recognised as the time.
    TimeColumn,
    /// Day and month of the dates are ambiguous.
    DateOrder,
}

const METRIC_NAMES: [&str; 8] = ["metric", "measurement", "variable", "parameter", "signal", "quantity", "sensor_type", "name"];
const VALUE_NAMES: [&str; 4] = ["value", "val", "reading", "result"];

/// Guesses a mapping. `zone` is that of the dataset, for times without an offset; what `stated` says is not guessed.
pub fn guess(look: &Look, zone: &str, stated: &Mapping) -> Guess {
    let columns: Vec<Seen<'_>> = look.names.iter().enumerate().map(|(at, name)| Seen::of(name, at, look)).collect();
    let mut guess = Guess::default();
    guess.mapping.table = Dialect { decimal: look.notation.decimal_comma.then_some(','), ..Dialect::default() };
    let has_mark = |mark: &&&str| columns.iter().any(|column| column.marks.contains(**mark));
    guess.mapping.missing = MARKS.iter().filter(has_mark).map(|mark| (*mark).to_owned()).collect();
    let time = times::find(&columns, (stated.time.column.as_deref(), stated.time.time_of_day.as_deref()));
    guess.take_time(&columns, time.as_ref(), zone, stated);
    let is_time = |column: &Seen<'_>| {
        let by_guess = time.as_ref().is_some_and(|time| time.at == column.at || time.time_of_day == Some(column.at));
        by_guess || [&stated.time.column, &stated.time.time_of_day].into_iter().flatten().any(|name| name == column.name)
    };
    let rest: Vec<&Seen<'_>> = columns.iter().filter(|column| !is_time(column)).collect();
    let described = |column: &Seen<'_>| stated.columns.iter().find(|known| known.column == column.name);
    let open: Vec<&Seen<'_>> = rest.iter().copied().filter(|column| described(column).is_none()).collect();
    let mut found = match long_table(&open) {
        Some(parts) => guess.take_long_table(&open, parts, look),
        None => open.iter().map(|column| column.guess()).collect(),
    };
    keys::tag_what_tells_rows_apart(&mut guess, look, &open, &mut found, time.as_ref(), stated);
    for (column, (guessed, why)) in open.iter().zip(found) {
        guess.reasons.push(Reason { column: column.name.to_owned(), taken_for: role_name(guessed.role).to_owned(), why });
        if guessed.role != Role::Skip {
            guess.mapping.columns.push(guessed);
        }
    }
    for column in rest {
        if let Some(known) = described(column) {
            guess.reasons.push(Reason { column: known.column.clone(), taken_for: role_name(known.role).to_owned(), why: "as stated".to_owned() });
        }
    }
    guess.reasons.sort_by_key(|reason| look.names.iter().position(|name| *name == reason.column));
    guess.mapping.merge(stated.clone());
    guess
}

fn role_name(role: Role) -> &'static str {
    match role {
        Role::Value => "value",
        Role::State => "state",
        Role::Histogram => "histogram",
        Role::Tag => "tag",
        Role::Metric => "metric",
        Role::Unit => "unit",
        Role::Skip => "skip",
    }
}

impl Guess {
    fn explain(&mut self, column: &Seen<'_>, taken_for: &str, why: String) {
        self.reasons.push(Reason { column: column.name.to_owned(), taken_for: taken_for.to_owned(), why });
    }

    fn take_time(&mut self, columns: &[Seen<'_>], time: Option<&Found>, zone: &str, stated: &Mapping) {
        let Some(found) = time else {
            if let Some(name) = &stated.time.column {
                if let Some(column) = columns.iter().find(|column| column.name == name) {
                    self.explain(column, "time", "as stated".to_owned());
                }
                return;
            }
            let text = "no column was recognised as the time: name it with time=COLUMN, and how it is written with time_format=FORMAT";
            self.questions.push(Question { about: QuestionKind::TimeColumn, column: None, text: text.to_owned(), choices: Vec::new() });
            return;
        };
        let column = &columns[found.at];
        let needs_zone = found.needs_zone;
        let zone = stated.time.zone.as_deref().unwrap_or(zone);
        let format = stated.time.format.clone().or_else(|| found.format.clone());
        let clock = found.time_of_day.map(|at| &columns[at]);
        let text = match clock {
            Some(clock) => format!("{} {}", column.cells.first().unwrap_or(&""), clock.cells.first().unwrap_or(&"")),
            None => column.cells.first().map_or(String::new(), |cell| (*cell).to_owned()),
        };
        let pattern = format.as_deref().filter(|format| format.contains('%')).map_or(String::new(), |format| format!(" by the pattern {format}"));
        let mut why = format!("{}{pattern}", found.form);
        if needs_zone {
            why += &format!(", without an offset, so read as {zone}");
        }
        if let Some(example) = times::example(&text, format.as_deref(), needs_zone, zone) {
            why += &format!("; {example}");
        }
        self.explain(column, "time", why);
        if let Some(clock) = clock {
            self.explain(clock, "time of day", format!("joined with `{}`", column.name));
        }
        if let (Some(orders), None) = (&found.orders, &stated.time.format) {
            let text = format!(
                "day and month in `{}` are ambiguous, because neither is above 12 in the sample (`{text}`): choose {} or {}",
                column.name, orders[0], orders[1]
            );
            self.questions.push(Question { about: QuestionKind::DateOrder, column: Some(column.name.to_owned()), text, choices: orders.to_vec() });
        }
        self.mapping.time = TimeColumn {
            column: Some(column.name.to_owned()),
            time_of_day: clock.map(|clock| clock.name.to_owned()),
            format,
            zone: needs_zone.then(|| zone.to_owned()),
            ..TimeColumn::default()
        };
    }

    /// A row for each value: all columns but those of the metric, the value and its unit are tags.
    fn take_long_table(&mut self, columns: &[&Seen<'_>], (metric, value): (usize, usize), look: &Look) -> Vec<(Column, String)> {
        for (name, _) in words_of(look, metric, value).into_iter().filter(|(_, are_words)| *are_words) {
            self.mapping.metrics.insert(name, NamedMetric { kind: Some(Kind::State), unit: None });
        }
        let states: Vec<String> = self.mapping.metrics.keys().map(|name| format!("`{name}`")).collect();
        let of = |column: &&Seen<'_>| {
            let with_role = |role: Role| Column { column: column.name.to_owned(), role, ..Column::default() };
            if column.at == metric {
                return (with_role(Role::Metric), "its words name metrics, whose values are in the same row".to_owned());
            }
            if column.at == value {
                let words = if states.is_empty() { String::new() } else { format!("; words for {}, which are states", states.join(", ")) };
                return (with_role(Role::Value), format!("the value of the metric that the row names{words}"));
            }
            if column.cells.is_empty() {
                return (with_role(Role::Skip), "it is empty in all rows of the sample".to_owned());
            }
            let known = long_column(column.name);
            if known.role != Role::Tag {
                let why = if known.role == Role::Skip { "describes the window, not the series" } else { "a part of the row's value" };
                return (known, why.to_owned());
            }
            if column.name == "time" || column.is_unique() {
                return (with_role(Role::Skip), "a different text in nearly every row, so not a tag".to_owned());
            }
            (known, column.texts())
        };
        columns.iter().map(of).collect()
    }
}

/// The places of the columns with the names of metrics and with their values, if the table is long.
fn long_table(columns: &[&Seen<'_>]) -> Option<(usize, usize)> {
    let exact = |name: &str| columns.iter().find(|column| column.name == name && !column.cells.is_empty());
    if let Some((metric, value)) = exact("metric").zip(exact("value")) {
        return Some((metric.at, value.at));
    }
    let names = columns.iter().find(|column| column.is_text() && column.is_called(&METRIC_NAMES))?;
    let value = columns.iter().find(|column| !column.cells.is_empty() && column.at != names.at && column.is_called(&VALUE_NAMES))?;
    Some((names.at, value.at))
}

/// The metrics that rows name, and whether all of their values are words.
fn words_of(look: &Look, metric: usize, value: usize) -> BTreeMap<String, bool> {
    let mut words: BTreeMap<String, BTreeSet<bool>> = BTreeMap::new();
    for row in &look.rows {
        let (Some(name), Some(cell)) = (row.get(metric).map(|name| name.trim()), row.get(value).map(|cell| cell.trim())) else { continue };
        if !name.is_empty() && !cell.is_empty() && !MARKS.contains(&cell) {
            words.entry(name.to_owned()).or_default().insert(look.notation.parse(cell).is_none());
        }
    }
    words.into_iter().map(|(name, seen)| (name, !seen.contains(&false))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn guessed(table: &str) -> String {
        guessed_with(table, &Mapping::default())
    }

    fn guessed_with(table: &str, stated: &Mapping) -> String {
        let look = crate::csv::look(table.as_bytes(), stated, None, 200).unwrap();
        let guess = guess(&look, "Europe/Lisbon", stated);
        guess.mapping.check().unwrap();
        let mut lines: Vec<String> =
            guess.reasons.iter().map(|reason| format!("# {}: {}, {}", reason.column, reason.taken_for, reason.why)).collect();
        lines.extend(guess.questions.iter().map(|question| format!("? {}", question.text)));
        lines.extend(guess.notes.iter().map(|note| format!("! {note}")));
        format!("{}\n\n{}", lines.join("\n"), guess.mapping.to_toml())
    }

    #[test]
    fn mappings_are_guessed_for_varied_tables() {
        insta::assert_snapshot!(
            "wide",
            guessed(
                "time,lock,side,level_cm,gate,pump_energy_kwh\n2026-05-01T09:00:00Z,osier,up,312.5,open,10\n2026-05-01T09:10:00Z,osier,down,NA,closed,12\n"
            )
        );
        insta::assert_snapshot!(
            "decimal_commas",
            guessed("Zeit;Schleuse;Pegel [cm];Temp (°C)\n01.05.2026 09:00;osier;312,5;14,2\n01.05.2026 09:10;marl;1.280;14,1\n")
        );
        insta::assert_snapshot!(
            "mostly_numbers",
            guessed(
                "time,level,open,note\n2026-05-01T09:00:00Z,1,true,\n2026-05-01T09:01:00Z,2,false,\n2026-05-01T09:02:00Z,broken,true,\n2026-05-01T09:03:00Z,3,true,\n"
            )
        );
        insta::assert_snapshot!("long", guessed("timestamp,station_id,parameter,value\n1777626000,7,flow,4.1\n1777626060,7,turbidity,9\n"));
        insta::assert_snapshot!(
            "long_with_words_and_numeric_tags",
            guessed(
                "time,metric,host,le,value,unit\n2026-05-01T09:00:00Z,wait,a,0.5,3,s\n2026-05-01T09:00:00Z,wait,a,1,4,s\n2026-05-01T09:00:00Z,gate,b,,open,\n2026-05-01T09:01:00Z,gate,b,,closed,\n"
            )
        );
    }

    /// The time of a table with one value, as its reason has it, or the question.
    fn time_of(cells: &[&str]) -> String {
        let rows: Vec<String> = cells.iter().enumerate().map(|(at, cell)| format!("{cell};{at}")).collect();
        let look = crate::csv::look(format!("when;level\n{}\n", rows.join("\n")).as_bytes(), &Mapping::default(), None, 200).unwrap();
        let guess = guess(&look, "Europe/Lisbon", &Mapping::default());
        let questions = guess.questions.iter().map(|question| format!("? {}", question.text));
        let reasons = guess.reasons.iter().filter(|reason| reason.taken_for == "time").map(|reason| reason.why.clone());
        reasons.chain(questions).collect::<Vec<_>>().join("\n    ")
    }

    #[test]
    fn usual_forms_of_times_are_recognised_with_an_example() {
        let tables: [&[&str]; 22] = [
            &["12/31/2025 2:05 PM", "1/1/2026 12:00 AM"],
            &["31.12.25 14:05", "01.01.26 00:00"],
            &["31/12/2025 14:05:07", "01/01/2026 00:00:00"],
            &["31.12.2025 14:05:07,25"],
            &["2025-12-31 14:05:07,250"],
            &["2025-12-31T14:05:07+01:00"],
            &["31.12.2025 14:05:07 +0100"],
            &["2025/12/31 14:05"],
            &["20251231140507"],
            &["20251231"],
            &["31 Dec 2025 14:05"],
            &["Dec 31, 2025, 02:05:07 PM"],
            &["31-Dec-25 14:05"],
            &["31.12.2025"],
            &["2025-12-31"],
            &["46022.586886574"],
            &["46022,5"],
            &["1767189907"],
            &["1767189907250"],
            // Neither of these is above 12.
            &["05/01/2026 09:00", "06/01/2026 09:00"],
            &["05-01-26"],
            &["Wednesday", "Thursday"],
        ];
        insta::assert_snapshot!(tables.map(|cells| format!("{}\n    {}", cells.join(" | "), time_of(cells))).join("\n"));
    }

    #[test]
    fn date_and_time_columns_are_guessed_as_one_time() {
        insta::assert_snapshot!("two_columns", guessed("Datum;Uhrzeit;Pegel\n31.12.2025;14:05;3,5\n01.01.2026;00:00;3,25\n"));
        let look = crate::csv::look(b"date,clock,level\n2026-05-01,09:00:30,1\n", &Mapping::default(), None, 9).unwrap();
        let iso = guess(&look, "UTC", &Mapping::default()).mapping;
        assert_eq!((iso.time.column.as_deref(), iso.time.time_of_day.as_deref(), iso.time.format), (Some("date"), Some("clock"), None));
    }

    #[test]
    fn stated_settings_are_not_guessed() {
        let mut stated = Mapping::default();
        stated.time.column = Some("b".into());
        stated.time.format = Some("%m/%d/%Y".into());
        stated.columns.push(Column { column: "c".into(), role: Role::Tag, ..Column::default() });
        insta::assert_snapshot!("stated", guessed_with("a,b,c,d\n2026-05-01T09:00:00Z,05/01/2026,7,1\n", &stated));
    }

    #[test]
    fn units_in_brackets_are_read_where_they_can_be_nothing_else() {
        let header = "time,temp [°F],flow (m³/h),dust [µg/m³],turns (rpm),level (max),pump (2),wait (min)";
        let look =
            crate::csv::look(format!("{header}\n2026-05-01T09:00:00Z{}\n", ",1.5".repeat(7)).as_bytes(), &Mapping::default(), None, 9).unwrap();
        let units: Vec<Option<String>> = guess(&look, "UTC", &Mapping::default()).mapping.columns.into_iter().map(|column| column.unit).collect();
        let some = |code: &str| Some(code.to_owned());
        assert_eq!(units, [some("[degF]"), some("m3/h"), some("ug/m3"), some("/min"), None, None, None]);
    }

    #[test]
    fn without_a_time_column_the_user_is_asked() {
        let look = crate::csv::look(b"time,lock,level\n0.0,osier,1\n0.1,osier,2\n", &Mapping::default(), None, 9).unwrap();
        let guess = guess(&look, "UTC", &Mapping::default());
        assert_eq!(guess.questions.iter().map(|question| question.about).collect::<Vec<_>>(), [QuestionKind::TimeColumn]);
        // Nor does the column become a metric.
        assert_eq!(guess.mapping.columns.iter().map(|column| column.column.as_str()).collect::<Vec<_>>(), ["lock", "level"]);
    }

    #[test]
    fn integers_that_distinguish_rows_become_a_tag() {
        let rows = |columns: &str, row: &dyn Fn(i64, i64) -> String| {
            let rows: Vec<String> = (0..30).flat_map(|minute| (0..4).map(move |one| (minute, one))).map(|(minute, one)| row(minute, one)).collect();
            let table = format!("time,{columns}\n{}\n", rows.join("\n"));
            let look = crate::csv::look(table.as_bytes(), &Mapping::default(), None, 200).unwrap();
            let guess = guess(&look, "UTC", &Mapping::default());
            let roles =
                guess.mapping.columns.iter().map(|column| format!("{} {}", column.column, role_name(column.role))).collect::<Vec<_>>().join(", ");
            (roles, guess.notes)
        };
        let time = |minute: i64| format!("2026-05-01T09:{minute:02}:00Z");
        let ids = rows("machine_id,speed", &|minute, one| format!("{},{one},{}", time(minute), minute * 7 + one));
        assert_eq!(ids, ("machine_id tag, speed value".to_owned(), vec![]));
        let plain = rows("maschine,speed", &|minute, one| format!("{},{},{}", time(minute), one + 1, minute * 7 % 30));
        assert_eq!(plain, ("maschine tag, speed value".to_owned(), vec![]));
        let pair = rows("hall,row,speed", &|minute, one| format!("{},{},{},{}.5", time(minute), one / 2, one % 2, minute));
        assert_eq!(pair, ("hall tag, row tag, speed value".to_owned(), vec![]));
        let (roles, notes) = rows("speed", &|minute, one| format!("{},{}.5", time(minute), one));
        assert!(roles == "speed value" && notes[0].contains("90 of 120 rows"), "{roles} {notes:?}");
        // The only value stays one, although whole numbers would tell the rows apart.
        let (roles, notes) = rows("speed", &|minute, one| format!("{},{}", time(minute), one));
        assert!(roles == "speed value" && notes[0].contains("90 of 120 rows"), "{roles} {notes:?}");
    }

    #[test]
    fn a_mapping_that_omits_a_tag_is_noticed() {
        let look =
            crate::csv::look(b"time,machine,speed\n2026-05-01T09:00:00Z,1,5\n2026-05-01T09:00:00Z,2,6\n", &Mapping::default(), None, 9).unwrap();
        let mapping = Mapping::parse("[[columns]]\ncolumn = \"speed\"\n").unwrap();
        let found = collisions(&look, &mapping);
        assert_eq!((found.rows, found.of, found.missing_tags), (1, 2, vec!["machine".to_owned()]));
        let with_tag = Mapping::parse("[[columns]]\ncolumn = \"machine\"\nrole = \"tag\"\n[[columns]]\ncolumn = \"speed\"\n").unwrap();
        assert!(!collisions(&look, &with_tag).are_many());
    }
}
