//! The statement of a round, as text that any client of the database can run.

use fenetre_core::time::{Nanos, SECOND, format_utc, zone, zoned};
use fenetre_formats::mapping::{Mapping, Others};

use crate::{
    definition::{Engine, Sql},
    error::FlowError,
};

/// Clock changes repeat at most this much local time.
const CLOCK_CHANGE: Nanos = 3 * 3_600 * SECOND;
/// Offsets from UTC differ by at most this.
const OFFSETS: Nanos = 26 * 3_600 * SECOND;

const SECONDS: &str = "%Y-%m-%d %H:%M:%S%.6f";
const DAYS: &str = "%Y-%m-%d";

/// What a column of times holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TimeKind {
    /// Instants.
    Instant,
    /// Local times without an offset.
    Local,
    /// Dates.
    Date,
    /// Numbers.
    Number,
    /// Texts.
    Text,
    /// Unknown, because there are no rows.
    Unknown,
    /// Something that is no time.
    Other,
}

/// The statement without bounds and order: what is selected, and from where.
pub fn base(sql: &Sql, engine: Engine) -> String {
    let columns = match &sql.mapping {
        Some(mapping) if !mapping.columns.is_empty() && mapping.others == Others::Skip => {
            let time = mapping.time.column.iter();
            let named = mapping.columns.iter().map(|column| &column.column);
            let mut names: Vec<&String> = time.chain(named).collect();
            let mut seen = std::collections::HashSet::new();
            names.retain(|name| seen.insert(*name));
            names.iter().map(|name| quoted(name, engine)).collect::<Vec<_>>().join(", ")
        }
        _ => "*".to_owned(),
    };
    match (&sql.table, &sql.query) {
        (Some(table), _) => format!("SELECT {columns} FROM {}", table.split('.').map(|part| quoted(part, engine)).collect::<Vec<_>>().join(".")),
        (None, query) => format!("SELECT {columns} FROM ({}) AS source", query.as_deref().unwrap_or_default().trim()),
    }
}

/// The statement of a round.
///
/// # Errors
/// If the column of the time cannot be compared.
pub fn of_round(sql: &Sql, mapping: &Mapping, engine: Engine, kind: TimeKind, from: Option<Nanos>, most: Option<u64>) -> Result<String, FlowError> {
    let column = mapping.time.column.as_deref().unwrap_or_default();
    let time = quoted(column, engine);
    let mut bounds = Vec::new();
    if let Some(from) = from
        && let Some(literal) = literal(mapping, column, engine, kind, from)?
    {
        bounds.push(format!("{time} >= {literal}"));
    }
    for (name, values) in &sql.filter {
        let list: Vec<String> = values.iter().map(|value| text(value, engine)).collect();
        bounds.push(format!("{} IN ({})", quoted(name, engine), list.join(", ")));
    }
    let bounds = if bounds.is_empty() { String::new() } else { format!(" WHERE {}", bounds.join(" AND ")) };
    let most = most.map_or(String::new(), |most| format!(" LIMIT {most}"));
    Ok(format!("{}{bounds} ORDER BY {time}{most}", base(sql, engine)))
}

/// A bound that is not after any row whose time is `from` or later.
fn literal(mapping: &Mapping, column: &str, engine: Engine, kind: TimeKind, from: Nanos) -> Result<Option<String>, FlowError> {
    let local = mapping.time.zone.as_deref().unwrap_or("UTC");
    Ok(Some(match kind {
        TimeKind::Instant if engine == Engine::Mysql => written(from, "UTC", SECONDS)?,
        TimeKind::Instant => format!("'{}'", format_utc(from)),
        TimeKind::Local => written(from - CLOCK_CHANGE, local, SECONDS)?,
        TimeKind::Date => written(from - CLOCK_CHANGE, local, DAYS)?,
        TimeKind::Number => {
            let per_unit = match mapping.time.format.as_deref() {
                Some("s") => SECOND,
                Some("ms") => SECOND / 1_000,
                Some("us") => SECOND / 1_000_000,
                Some("ns") => 1,
                _ => {
                    return Err(FlowError::Definition(format!(
                        "mapping.time.format: the column `{column}` holds numbers: set their unit: format = \"s\", \"ms\", \"us\" or \"ns\""
                    )));
                }
            };
            from.div_euclid(per_unit).to_string()
        }
        // Compared as text: up to the day, both `T` and a space may follow, and any offset.
        TimeKind::Text => match mapping.time.format.as_deref() {
            None | Some("guess" | "iso") => written(from - OFFSETS, "UTC", DAYS)?,
            Some(_) => return Ok(None),
        },
        TimeKind::Unknown => return Ok(None),
        TimeKind::Other => {
            return Err(FlowError::Definition(format!(
                "mapping.time.column: the column `{column}` holds no times: choose another one, or convert it in a `query`"
            )));
        }
    }))
}

/// A time by the clock of a zone, as a literal.
fn written(at: Nanos, zone_name: &str, format: &str) -> Result<String, FlowError> {
    let zone = zone(zone_name).map_err(|error| FlowError::Definition(format!("mapping.time.zone: {error}")))?;
    Ok(format!("'{}'", zoned(at, &zone).strftime(format)))
}

fn quoted(name: &str, engine: Engine) -> String {
    match engine {
        Engine::Mysql => format!("`{}`", name.replace('`', "``")),
        Engine::Postgres | Engine::Sqlite => format!("\"{}\"", name.replace('"', "\"\"")),
    }
}

fn text(value: &str, engine: Engine) -> String {
    let value = value.replace('\'', "''");
    format!("'{}'", if engine == Engine::Mysql { value.replace('\\', "\\\\") } else { value })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::definition::Definition;

    #[test]
    fn statements_can_be_copied_into_any_client() {
        let of = |rest: &str| {
            let text = format!("kind = \"sql\"\ndatabase = \"sqlite:///clerk.db\"\n{rest}");
            let Definition::Sql(sql) = Definition::parse(&text, "x").unwrap() else { panic!("another kind") };
            *sql
        };
        let table = of(
            "table = \"clerk.readings\"\nwhere = { name = [\"level\", \"o'flow\\\\\"] }\n[mapping]\ntime = { column = \"at\", zone = \"Europe/Lisbon\" }\ncolumns = [{ column = \"name\", role = \"metric\" }, { column = \"val\\\"ue\" }]\n",
        );
        let query = of("query = \"SELECT * FROM wide WHERE ok\"\n[mapping]\ntime = { column = \"at\", format = \"ms\" }\nothers = \"value\"\n");
        // Half an hour after a clock change, when local times repeat.
        let from = Some(1_792_890_000 * SECOND);
        let mut statements = Vec::new();
        for engine in [Engine::Postgres, Engine::Mysql, Engine::Sqlite] {
            for kind in [TimeKind::Instant, TimeKind::Local, TimeKind::Date, TimeKind::Text] {
                statements.push(of_round(&table, table.mapping.as_ref().unwrap(), engine, kind, from, None).unwrap());
            }
            statements.push(of_round(&query, query.mapping.as_ref().unwrap(), engine, TimeKind::Number, from, Some(20)).unwrap());
        }
        statements.push(of_round(&table, table.mapping.as_ref().unwrap(), Engine::Sqlite, TimeKind::Number, from, None).unwrap_err().to_string());
        statements.push(of_round(&table, table.mapping.as_ref().unwrap(), Engine::Sqlite, TimeKind::Other, from, None).unwrap_err().to_string());
        insta::assert_snapshot!(statements.join("\n"));
    }
}
