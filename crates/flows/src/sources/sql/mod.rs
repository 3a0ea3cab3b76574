//! Rows of a database, in the order of their times. How far they were read is kept in the store, after the rows.

#[cfg(feature = "mysql")]
mod mysql;
mod postgres;
mod seen;
mod sqlite;
mod statement;

use std::{
    collections::{BTreeMap, HashSet},
    hash::{BuildHasher, RandomState},
    time::{Duration, Instant},
};

use fenetre_core::{
    model::{About, Described, Kind, PointRef, PointSink, Refusal},
    time::{Nanos, SECOND, format_utc, parse_rfc3339},
};
use fenetre_formats::{
    Output, Tally,
    mapping::{Cell, Mapping, Role, Rows},
};
use fenetre_store::Secrets;
use fenetre_wire::sources::SourcePart;

#[cfg(feature = "mysql")]
use self::mysql::Mysql;
use self::{postgres::Postgres, seen::Seen, sqlite::Sqlite, statement::TimeKind};
use super::{Outcome, Round, Source, gather::Gather};
use crate::{
    database::Login,
    definition::{Engine, Place, Sql, duration, exact},
    error::FlowError,
    progress::Progress,
    runtime::{Stop, new_runtime},
};

const DEFAULT_OVERLAP: Nanos = 600 * SECOND;
const DEFAULT_TIMEOUT: Duration = Duration::from_secs(30);
const DEFAULT_PART: u32 = 10_000;
const DEFAULT_NEW_SERIES: u64 = 10_000;
/// Maximum number of rows that a trial reads.
const TRIAL_ROWS: u64 = 100_000;
/// Maximum number of different values of a column that are counted.
const MAX_DIFFERENT: usize = 100_000;

/// Handles a row, and returns whether to continue.
type EachRow<'e> = dyn FnMut(&[Cell<'_>]) -> Result<bool, FlowError> + 'e;

/// A connection to a database, in a transaction that only reads.
trait Database {
    /// Names of the columns of a statement, and what each would be as a time.
    fn columns(&mut self, statement: &str, stop: Stop<'_>) -> Result<Vec<(String, TimeKind)>, FlowError>;

    /// Runs a statement, and fetches its rows in parts.
    fn rows(&mut self, statement: &str, part: u32, stop: Stop<'_>, each: &mut EachRow<'_>) -> Result<(), FlowError>;
}

/// A source that reads rows.
pub struct SqlSource {
    sql: Sql,
    seen: Seen,
    /// New series since the latest complete round. A round that was refused for them is tried again, and must not create as many once more.
    new_series: u64,
}

impl SqlSource {
    /// A source of a definition that was checked.
    pub fn new(sql: Sql) -> Self {
        Self { sql, seen: Seen::default(), new_series: 0 }
    }

    fn connect(&self, stop: Stop<'_>, secrets: &Secrets) -> Result<(Engine, Box<dyn Database>), FlowError> {
        let sql = &self.sql;
        let timeout = sql.timeout.map_or(DEFAULT_TIMEOUT, duration);
        let (engine, address) = match sql.place().map_err(FlowError::Definition)? {
            Place::File(path) => return Ok((Engine::Sqlite, Box::new(Sqlite::open(&path, &sql.database, timeout)?))),
            Place::Server(engine, address) => (engine, address),
        };
        let login = Login {
            name: &sql.database,
            user: sql.user.as_deref().unwrap_or_default(),
            password: sql.password.as_ref().map(|password| password.read(secrets)).transpose()?,
            tls: sql.tls.unwrap_or(!address.is_loopback()),
            ca: sql.ca.as_ref(),
            timeout,
            stop,
            address: &address,
        };
        let runtime = new_runtime()?;
        let database: Box<dyn Database> = match engine {
            #[cfg(feature = "mysql")]
            Engine::Mysql => Box::new(Mysql::connect(runtime, &login)?),
            #[cfg(not(feature = "mysql"))]
            Engine::Mysql => return Err(FlowError::Kind("mysql")),
            Engine::Postgres | Engine::Sqlite => Box::new(Postgres::connect(runtime, &login)?),
        };
        Ok((engine, database))
    }

    /// What is read, for the record of progress: if it changes, reading starts over.
    fn subject(&self) -> String {
        let Sql { database, table, query, filter, from, mapping, .. } = &self.sql;
        let time = mapping.as_ref().and_then(|mapping| mapping.time.column.as_deref());
        serde_json::json!([database, table, query, filter, from, time]).to_string()
    }

    /// The first time that a round reads.
    fn start(&self, round: &Round<'_>) -> Result<Option<Nanos>, FlowError> {
        let kept = match round.name {
            Some(name) => Progress::load(&round.intake.store, name)?.filter(|progress| progress.subject == self.subject()),
            None => None,
        };
        let from = self.sql.from.as_deref().map(parse_rfc3339).transpose().map_err(|error| FlowError::Definition(format!("from: {error}")))?;
        let overlap = self.sql.overlap.map_or(DEFAULT_OVERLAP, exact);
        let watermark = kept.and_then(|progress| progress.watermark).map(|watermark| watermark.saturating_sub(overlap));
        Ok(watermark.max(from))
    }
}

impl Source for SqlSource {
    fn round(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let begun = Instant::now();
        let mapping = round.intake.with_zone(&self.sql.dataset, self.sql.mapping.clone().unwrap_or_default());
        let from = self.start(round)?;
        let (engine, mut database) = self.connect(round.stop, round.intake.store.secrets())?;
        let columns = database.columns(&statement::base(&self.sql, engine), round.stop)?;
        let names: Vec<&str> = columns.iter().map(|(name, _)| name.as_str()).collect();
        let rows = Rows::new(&mapping, &names)?;
        let time = mapping.time.column.as_deref().unwrap_or_default();
        let kind = columns.iter().find(|(name, _)| name == time).map_or(TimeKind::Other, |(_, kind)| *kind);
        let limit = round.shown.map(|_| TRIAL_ROWS);
        let statement = statement::of_round(&self.sql, &mapping, engine, kind, from, limit)?;
        let part = self.sql.part.unwrap_or(DEFAULT_PART);
        let subject = self.subject();
        let mut reading = Reading {
            sql: &self.sql,
            seen: &mut self.seen,
            round,
            rows: &rows,
            subject,
            tags: Tags::new(&mapping, &names),
            gather: None,
            tally: Tally::default(),
            fresh: Vec::new(),
            new_series: &mut self.new_series,
            count: 0,
            latest: None,
            all: Outcome { sent: Some(statement.clone()), ..Outcome::default() },
        };
        let per_part = if round.shown.is_some() { u64::MAX } else { u64::from(part) };
        database.rows(&statement, part, round.stop, &mut |cells| {
            reading.take(cells)?;
            if reading.count.is_multiple_of(per_part) {
                reading.store()?;
            }
            Ok(!(round.stop)())
        })?;
        let is_whole = !(round.stop)();
        reading.store()?;
        let Reading { mut all, count, .. } = reading;
        if is_whole {
            self.seen.end_round();
            self.new_series = 0;
        }
        let name = self.sql.table.clone().unwrap_or_else(|| "query".to_owned());
        all.parts.push(SourcePart { name, points: all.points, rows: Some(count), seconds: begun.elapsed().as_secs_f64(), ..SourcePart::default() });
        Ok(all)
    }
}

/// The rows of a round, on their way into the store.
struct Reading<'a> {
    sql: &'a Sql,
    seen: &'a mut Seen,
    round: &'a Round<'a>,
    rows: &'a Rows,
    subject: String,
    tags: Tags,
    gather: Option<Gather<'a>>,
    tally: Tally,
    /// Fingerprints of rows that are not stored yet.
    fresh: Vec<u128>,
    new_series: &'a mut u64,
    count: u64,
    /// Time of the latest row that was read.
    latest: Option<Nanos>,
    all: Outcome,
}

impl Reading<'_> {
    /// Takes a row, unless it is stored already.
    fn take(&mut self, cells: &[Cell<'_>]) -> Result<(), FlowError> {
        self.count += 1;
        let row = self.seen.fingerprint(cells);
        if self.seen.contains(row) {
            return Ok(());
        }
        self.tags.count(cells);
        self.fresh.push(row);
        let mut gather = match self.gather.take() {
            Some(gather) => gather,
            None => {
                let mut gather = Gather::new(self.round, &self.sql.dataset, &self.sql.tags)?;
                let (rows, tally) = (self.rows, &mut self.tally);
                gather.sink(|sink| rows.describe(sink, tally));
                gather
            }
        };
        gather.read(cells.iter().map(|cell| cell.text().map_or(8, str::len)).sum());
        let (now, line, rows) = ((self.round.clock)(), self.count, self.rows);
        let (tally, latest) = (&mut self.tally, &mut self.latest);
        gather.sink(|sink| {
            let mut sink = Watching { sink, latest };
            rows.take(&|at| cells[at], &mut Vec::new(), &mut || line, &mut Output { now, sink: &mut sink, tally });
        });
        let new_series = *self.new_series + gather.new_series();
        self.gather = Some(gather);
        let limit = self.sql.max_new_series.unwrap_or(DEFAULT_NEW_SERIES);
        if new_series > limit {
            return Err(FlowError::Peer(format!(
                "{}: the rows would create more than {limit} new series (`max_new_series`); after {} rows, {}. Leave such columns out of the mapping, choose some of \
                 their values with `where`, or raise the limit. Nothing of this part was stored",
                self.sql.database,
                self.count,
                self.tags.describe()
            )));
        }
        Ok(())
    }

    /// Stores the rows, then notes how far they reach.
    fn store(&mut self) -> Result<(), FlowError> {
        if let Some(mut gather) = self.gather.take() {
            *self.new_series += gather.new_series();
            gather.absorb(std::mem::take(&mut self.tally));
            let outcome = gather.keep()?;
            self.all.add(outcome, self.round.shown);
            self.seen.add(self.fresh.drain(..));
        }
        if let (Some(name), Some(latest)) = (self.round.name, self.latest) {
            let store = &self.round.intake.store;
            let now = (self.round.clock)();
            // A row from the future must not hide those that come until then.
            let watermark = latest.min(now);
            let known = Progress::load(store, name)?.filter(|progress| progress.subject == self.subject);
            if known.as_ref().and_then(|known| known.watermark).is_none_or(|known| known < watermark) {
                Progress { subject: self.subject.clone(), watermark: Some(watermark), files: BTreeMap::new() }.save(store, name, now)?;
                tracing::debug!(source = name, watermark = format_utc(watermark), "rows were read");
            }
        }
        Ok(())
    }
}

/// A sink that notes the latest time.
struct Watching<'s> {
    sink: &'s mut dyn PointSink,
    latest: &'s mut Option<Nanos>,
}

impl PointSink for Watching<'_> {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        *self.latest = (*self.latest).max(Some(point.time));
        self.sink.accept(point)
    }

    fn describe(&mut self, metric: &str, about: About<'_>) -> Described {
        self.sink.describe(metric, about)
    }

    fn kind_of(&self, metric: &str) -> Option<Kind> {
        self.sink.kind_of(metric)
    }
}

/// How many different values the columns have that tell series apart.
struct Tags {
    columns: Vec<(usize, String, HashSet<u64>)>,
    state: RandomState,
}

impl Tags {
    fn new(mapping: &Mapping, names: &[&str]) -> Self {
        let mapping = mapping.completed(names);
        let tells_apart =
            |name: &&str| mapping.columns.iter().any(|column| column.column == **name && matches!(column.role, Role::Tag | Role::Metric));
        let columns = names.iter().enumerate().filter(|(_, name)| tells_apart(name)).map(|(at, name)| (at, (*name).to_owned(), HashSet::new()));
        Self { columns: columns.collect(), state: RandomState::new() }
    }

    fn count(&mut self, cells: &[Cell<'_>]) {
        for (at, _, values) in &mut self.columns {
            if values.len() < MAX_DIFFERENT
                && let Ok(text) = cells[*at].to_text()
            {
                values.insert(self.state.hash_one(text));
            }
        }
    }

    fn describe(&self) -> String {
        let mut columns: Vec<(&str, usize)> = self.columns.iter().map(|(_, name, values)| (name.as_str(), values.len())).collect();
        columns.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        let of = |(name, count): &(&str, usize)| format!("`{name}` has {count} different values");
        columns.iter().take(3).map(of).collect::<Vec<_>>().join(", ")
    }
}
