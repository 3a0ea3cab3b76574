//! Rows of one instant: what tells them apart must be a tag, else the later of them replaces the earlier.

use std::collections::HashSet;

use super::{Guess, columns::Seen, times::Found};
use crate::{
    Look,
    mapping::{Column, Mapping, Role, long_column},
};

/// Of a hundred points so many may replace each other before somebody should know.
pub const MAX_COLLISIONS_PERCENT: usize = 1;

/// Maximum number of columns whose pairs are tried.
const MAX_PAIRED: usize = 50;

/// Rows whose time and tags are those of another row.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Collisions {
    /// Rows that another one replaces.
    pub rows: usize,
    /// Rows of the sample.
    pub of: usize,
    /// Columns that would tell them apart as tags.
    pub missing_tags: Vec<String>,
}

impl Collisions {
    /// Whether they are too many to be an accident.
    pub fn are_many(&self) -> bool {
        self.rows * 100 > self.of * MAX_COLLISIONS_PERCENT
    }
}

/// Rows of a sample that a mapping gives the same time and tags, and the columns that are probably missing as tags.
pub fn collisions(look: &Look, mapping: &Mapping) -> Collisions {
    let names: Vec<&str> = look.names.iter().map(String::as_str).collect();
    let mapping = mapping.completed(&names);
    let place = |name: &str| look.names.iter().position(|known| known == name);
    let time = [mapping.time.column.as_deref().unwrap_or("time")].into_iter().chain(mapping.time.time_of_day.as_deref());
    let tags = mapping.columns.iter().filter(|column| matches!(column.role, Role::Tag | Role::Metric)).map(|column| column.column.as_str());
    let key: Vec<usize> = time.chain(tags).filter_map(place).collect();
    let columns: Vec<Seen<'_>> = look.names.iter().enumerate().map(|(at, name)| Seen::of(name, at, look)).collect();
    let candidates: Vec<&Seen<'_>> = columns.iter().filter(|column| !key.contains(&column.at) && may_be_a_tag(column)).collect();
    let rows = duplicates(look, &key);
    let found = Collisions { rows, of: look.rows.len(), missing_tags: Vec::new() };
    let missing_tags = if found.are_many() { distinguishing(look, &key, &candidates) } else { Vec::new() };
    Collisions { missing_tags: missing_tags.into_iter().map(|column| column.name.to_owned()).collect(), ..found }
}

/// Makes tags of columns that tell rows of one instant apart, or notes that nothing does.
pub fn tag_what_tells_rows_apart(
    guess: &mut Guess,
    look: &Look,
    columns: &[&Seen<'_>],
    found: &mut [(Column, String)],
    time: Option<&Found>,
    stated: &Mapping,
) {
    let Some(time) = time else { return };
    let is_key = |role: Role| matches!(role, Role::Tag | Role::Metric);
    let stated_tags =
        stated.columns.iter().filter(|column| is_key(column.role)).filter_map(|column| look.names.iter().position(|n| *n == column.column));
    let mut key: Vec<usize> = vec![time.at];
    key.extend(time.time_of_day);
    key.extend(stated_tags);
    key.extend(columns.iter().zip(&*found).filter(|(_, (column, _))| is_key(column.role)).map(|(seen, _)| seen.at));
    let rows = duplicates(look, &key);
    if !(Collisions { rows, of: look.rows.len(), missing_tags: Vec::new() }).are_many() {
        return;
    }
    // A table needs a value: its only value column never becomes a tag.
    let is_value = |column: &Column| matches!(column.role, Role::Value | Role::State | Role::Histogram);
    let has_one_value = found.iter().map(|(column, _)| column).chain(&stated.columns).filter(|column| is_value(column)).count() == 1;
    let may_be = |seen: &Seen<'_>, column: &Column| !(is_key(column.role) || has_one_value && is_value(column)) && may_be_a_tag(seen);
    let candidates: Vec<&Seen<'_>> = columns.iter().zip(&*found).filter(|(seen, (column, _))| may_be(seen, column)).map(|(seen, _)| *seen).collect();
    let telling = distinguishing(look, &key, &candidates);
    if telling.is_empty() {
        guess.notes.push(format!(
            "{rows} of {} rows have the time and tags of another row, and the later one replaces the earlier: a tag column is probably missing",
            look.rows.len()
        ));
        return;
    }
    let places: Vec<usize> = telling.iter().map(|column| column.at).collect();
    for (seen, (column, why)) in columns.iter().zip(found).filter(|(seen, _)| places.contains(&seen.at)) {
        *column = Column { role: Role::Tag, ..long_column(seen.name) };
        *why = format!("{} different cells, which tell rows of the same time apart", seen.distinct());
    }
}

/// Whether a column can be one: few different cells, and no measurements.
fn may_be_a_tag(column: &Seen<'_>) -> bool {
    (column.is_whole() || column.is_text()) && !column.is_unique() && column.distinct() > 1
}

/// How many rows share the cells at some places with a later one.
fn duplicates(look: &Look, key: &[usize]) -> usize {
    let mut seen: HashSet<Vec<&str>> = HashSet::new();
    look.rows.iter().filter(|row| !seen.insert(key.iter().map(|at| row.get(*at).map_or("", |cell| cell.trim())).collect())).count()
}

/// The fewest columns that leave hardly any duplicates: those that are called like an id first, then those with the fewest different cells.
fn distinguishing<'s, 'l>(look: &Look, key: &[usize], candidates: &[&'s Seen<'l>]) -> Vec<&'s Seen<'l>> {
    let mut ordered: Vec<&Seen<'_>> = candidates.to_vec();
    ordered.sort_by_key(|column| (!column.is_called_an_id(), column.distinct()));
    let tells = |more: &[usize]| {
        let key: Vec<usize> = key.iter().chain(more).copied().collect();
        !Collisions { rows: duplicates(look, &key), of: look.rows.len(), missing_tags: Vec::new() }.are_many()
    };
    if let Some(alone) = ordered.iter().find(|column| tells(&[column.at])) {
        return vec![alone];
    }
    ordered.truncate(MAX_PAIRED);
    for (at, one) in ordered.iter().enumerate() {
        if let Some(other) = ordered[at + 1..].iter().find(|other| tells(&[one.at, other.at])) {
            return vec![one, other];
        }
    }
    Vec::new()
}
