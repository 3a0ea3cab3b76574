//! The catalogue's records in SQLite, read into memory at start and written before anything that refers to them.

use std::{collections::BTreeMap, path::PathBuf};

use fenetre_core::{
    catalogue::Catalogue,
    model::{DatasetId, Kind, MetricDefinition, MetricId, SeriesId, Shape},
};
use rusqlite::{Connection, Transaction, params};
use rusqlite_migration::{M, Migrations};

use crate::{
    error::{Context, StoreError},
    files::open_sqlite,
};

const PAGE_SIZE: u32 = 4_096;
const SCHEMA: &str = "
CREATE TABLE dataset (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, zone TEXT NOT NULL, description TEXT NOT NULL
) STRICT;
CREATE TABLE metric (
    id INTEGER PRIMARY KEY, dataset INTEGER NOT NULL REFERENCES dataset, name TEXT NOT NULL, kind TEXT NOT NULL,
    unit TEXT, shape TEXT NOT NULL, description TEXT NOT NULL, UNIQUE (dataset, name)
) STRICT;
CREATE TABLE series (
    id INTEGER PRIMARY KEY, metric INTEGER NOT NULL REFERENCES metric, tags TEXT NOT NULL, UNIQUE (metric, tags)
) STRICT;
CREATE TABLE word (
    series INTEGER NOT NULL REFERENCES series, code INTEGER NOT NULL, word TEXT NOT NULL, PRIMARY KEY (series, code)
) STRICT, WITHOUT ROWID;
";

/// `catalogue.db`.
pub struct Records {
    path: PathBuf,
    connection: Connection,
}

/// Tags as they are kept: a JSON object, keys in order.
pub type TagMap = BTreeMap<String, String>;

impl Records {
    /// Opens the file and brings it to this version's schema.
    pub fn open(path: PathBuf) -> Result<Self, StoreError> {
        let mut connection = open_sqlite(&path, "FULL", PAGE_SIZE)?;
        let migrated = Migrations::new(vec![M::up(SCHEMA)]).to_latest(&mut connection);
        migrated.map_err(|error| match error {
            rusqlite_migration::Error::MigrationDefinition(rusqlite_migration::MigrationDefinitionError::DatabaseTooFarAhead) => {
                StoreError::Newer { path: path.clone() }
            }
            rusqlite_migration::Error::RusqliteError { err, .. } => match Err::<(), _>(err).at("bring up to date", &path) {
                Err(error) => error,
                Ok(()) => StoreError::Closed("the catalogue could not be opened".to_owned()),
            },
            other => StoreError::Damaged { path: path.clone(), what: other.to_string() },
        })?;
        Ok(Self { path, connection })
    }

    /// Reads everything.
    pub fn load(&self) -> Result<Catalogue, StoreError> {
        let mut catalogue = Catalogue::default();
        self.load_into(&mut catalogue).at("read", &self.path)?;
        Ok(catalogue)
    }

    fn load_into(&self, catalogue: &mut Catalogue) -> rusqlite::Result<()> {
        let mut names = BTreeMap::new();
        let mut statement = self.connection.prepare("SELECT id, name, zone, description FROM dataset")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let (id, name): (u32, String) = (row.get(0)?, row.get(1)?);
            catalogue.put_dataset(DatasetId(id), &name, &row.get::<_, String>(2)?, &row.get::<_, String>(3)?);
            names.insert(id, name);
        }
        let mut metrics: BTreeMap<u32, (String, String)> = BTreeMap::new();
        let mut statement = self.connection.prepare("SELECT id, dataset, name, kind, unit, shape, description FROM metric")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let (id, name): (u32, String) = (row.get(0)?, row.get(2)?);
            let definition = MetricDefinition {
                kind: Kind::from_name(&row.get::<_, String>(3)?).unwrap_or_default(),
                unit: row.get(4)?,
                shape: Shape::from_name(&row.get::<_, String>(5)?).unwrap_or_default(),
                description: row.get(6)?,
            };
            let Some(home) = names.get(&row.get(1)?) else { continue };
            if let Some(dataset) = catalogue.dataset_mut(home) {
                dataset.put_metric(MetricId(id), &name, definition);
            }
            metrics.insert(id, (home.clone(), name));
        }
        let mut words: BTreeMap<u32, Vec<std::sync::Arc<str>>> = BTreeMap::new();
        let mut statement = self.connection.prepare("SELECT series, word FROM word ORDER BY series, code")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            words.entry(row.get(0)?).or_default().push(row.get::<_, String>(1)?.into());
        }
        let mut statement = self.connection.prepare("SELECT id, metric, tags FROM series")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let id: u32 = row.get(0)?;
            let Some((home, metric)) = metrics.get(&row.get(1)?) else { continue };
            let tags: TagMap = serde_json::from_str(row.get_ref(2)?.as_str()?).unwrap_or_default();
            if let Some(dataset) = catalogue.dataset_mut(home) {
                let tags = tags.iter().map(|(key, value)| (key.as_str(), value.as_str()));
                dataset.put_series(SeriesId(id), metric, tags, words.remove(&id).unwrap_or_default());
            }
        }
        Ok(())
    }

    /// Runs changes in one transaction, which is on stable storage when this returns.
    pub fn change<T>(&mut self, work: impl FnOnce(&Changes<'_>) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        let run = |connection: &mut Connection| -> rusqlite::Result<T> {
            let changes = Changes(connection.transaction()?);
            let done = work(&changes)?;
            changes.0.commit()?;
            Ok(done)
        };
        run(&mut self.connection).at("write", &self.path)
    }
}

/// Changes that are kept together or not at all.
pub struct Changes<'c>(Transaction<'c>);

impl Changes<'_> {
    pub fn put_dataset(&self, name: &str, zone: &str, description: &str) -> rusqlite::Result<DatasetId> {
        let put = "INSERT INTO dataset (name, zone, description) VALUES (?1, ?2, ?3)
                   ON CONFLICT (name) DO UPDATE SET zone = ?2, description = ?3 RETURNING id";
        self.0.query_row(put, params![name, zone, description], |row| row.get(0)).map(DatasetId)
    }

    pub fn put_metric(&self, dataset: DatasetId, name: &str, definition: &MetricDefinition) -> rusqlite::Result<MetricId> {
        let put = "INSERT INTO metric (dataset, name, kind, unit, shape, description) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
                   ON CONFLICT (dataset, name) DO UPDATE SET kind = ?3, unit = ?4, shape = ?5, description = ?6 RETURNING id";
        let MetricDefinition { kind, unit, shape, description } = definition;
        let values = params![dataset.0, name, kind.as_str(), unit, shape.as_str(), description];
        self.0.prepare_cached(put)?.query_row(values, |row| row.get(0)).map(MetricId)
    }

    pub fn add_series(&self, metric: MetricId, tags: &TagMap) -> rusqlite::Result<SeriesId> {
        let text = serde_json::to_string(tags).map_err(|error| rusqlite::Error::ToSqlConversionFailure(Box::new(error)))?;
        let add = "INSERT INTO series (metric, tags) VALUES (?1, ?2) RETURNING id";
        self.0.prepare_cached(add)?.query_row(params![metric.0, text], |row| row.get(0)).map(SeriesId)
    }

    pub fn add_word(&self, series: SeriesId, code: usize, word: &str) -> rusqlite::Result<()> {
        let add = "INSERT INTO word (series, code, word) VALUES (?1, ?2, ?3)";
        self.0.prepare_cached(add)?.execute(params![series.0, code as i64, word]).map(|_| ())
    }
}
