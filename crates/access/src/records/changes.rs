//! The record of changes.

use rusqlite::{Row, params};

use super::Records;
use crate::{
    change::{Act, Change, ChangeFilter, Subject, Who},
    error::AccessError,
};

impl Records {
    /// Appends a change.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn record(&self, change: &Change) -> Result<(), AccessError> {
        let (connection, failed) = self.work("write");
        let text = |value: &Option<serde_json::Value>| value.as_ref().map(ToString::to_string);
        connection
            .prepare_cached(
                "INSERT INTO changes (at, who, token, address, subject, act, dataset, object, before, after)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            )
            .and_then(|mut insert| {
                insert.execute(params![
                    change.at,
                    change.who.name(),
                    change.who.token_id(),
                    change.address.map(|address| address.to_string()),
                    change.subject.as_str(),
                    change.act.as_str(),
                    change.dataset,
                    change.object,
                    text(&change.before),
                    text(&change.after)
                ])
            })
            .map(|_| ())
            .map_err(failed)
    }

    /// Changes with their numbers, the latest first.
    ///
    /// # Errors
    /// If the file cannot be read, or a record is damaged.
    pub fn changes(&self, filter: &ChangeFilter) -> Result<Vec<(i64, Change)>, AccessError> {
        let rows = {
            let (connection, failed) = self.work("read");
            let mut query = connection
                .prepare_cached(
                    "SELECT number, at, who, token, address, subject, act, dataset, object, before, after FROM changes
                     WHERE (?1 IS NULL OR who = ?1) AND (?2 IS NULL OR subject = ?2) AND (?3 IS NULL OR at >= ?3) AND (?4 IS NULL OR number < ?4)
                     ORDER BY number DESC LIMIT ?5",
                )
                .map_err(&failed)?;
            let limit = i64::try_from(filter.limit).unwrap_or(i64::MAX);
            let wanted = params![filter.who, filter.subject.map(Subject::as_str), filter.since, filter.before, limit];
            query.query_map(wanted, RawChange::read).and_then(Iterator::collect::<rusqlite::Result<Vec<_>>>).map_err(&failed)?
        };
        rows.into_iter().map(|raw| self.parsed_change(raw)).collect()
    }

    fn parsed_change(&self, raw: RawChange) -> Result<(i64, Change), AccessError> {
        let number = raw.number;
        let damaged = |reason: &str| self.damaged(format!("change {number}"), reason);
        let json = |text: Option<String>| text.map(|text| serde_json::from_str(&text)).transpose().map_err(|_| damaged("a value is not JSON"));
        let change = Change {
            at: raw.at,
            who: Who::from_record(raw.who, raw.token).ok_or_else(|| damaged("nobody has that name"))?,
            address: raw.address.map(|text| text.parse()).transpose().map_err(|_| damaged("its address is none"))?,
            subject: Subject::from_word(&raw.subject).ok_or_else(|| damaged("its subject is unknown"))?,
            act: Act::from_word(&raw.act).ok_or_else(|| damaged("its act is unknown"))?,
            dataset: raw.dataset,
            object: raw.object,
            before: json(raw.before)?,
            after: json(raw.after)?,
        };
        Ok((number, change))
    }
}

struct RawChange {
    number: i64,
    at: i64,
    who: String,
    token: Option<String>,
    address: Option<String>,
    subject: String,
    act: String,
    dataset: Option<String>,
    object: String,
    before: Option<String>,
    after: Option<String>,
}

impl RawChange {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            number: row.get(0)?,
            at: row.get(1)?,
            who: row.get(2)?,
            token: row.get(3)?,
            address: row.get(4)?,
            subject: row.get(5)?,
            act: row.get(6)?,
            dataset: row.get(7)?,
            object: row.get(8)?,
            before: row.get(9)?,
            after: row.get(10)?,
        })
    }
}
