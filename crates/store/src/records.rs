//! The catalogue's records in SQLite, read into memory at start and written before anything that refers to them.

use std::{borrow::Cow, collections::BTreeMap, fmt, path::PathBuf};

use fenetre_core::{
    catalogue::{Catalogue, Codes, FIRST_PART, Layout},
    model::{DatasetId, Kind, MetricDefinition, MetricId, SeriesId, Shape},
};
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use rusqlite_migration::{M, Migrations};
use serde::{
    Deserialize, Deserializer,
    de::{MapAccess, Visitor},
};

use crate::{
    error::{Context, StoreError},
    sqlite::{self, Use},
};

/// The format of the store, which is the number of the catalogue's last migration.
pub const FORMAT: i64 = 2;
const FORMAT_1: &str = "
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
/// Layouts of histograms, and what the store says of itself: `generation`, the highest that the head has begun.
const FORMAT_2: &str = "
CREATE TABLE layout (
    series INTEGER NOT NULL REFERENCES series, code INTEGER NOT NULL, bounds TEXT NOT NULL, first_part INTEGER NOT NULL,
    PRIMARY KEY (series, code)
) STRICT, WITHOUT ROWID;
CREATE TABLE state (key TEXT PRIMARY KEY, value INTEGER NOT NULL) STRICT, WITHOUT ROWID;
";
const GENERATION: &str = "generation";

/// `catalogue.db`.
pub struct Records {
    path: PathBuf,
    connection: Connection,
}

/// Tags as they are kept: a JSON object, keys in order.
pub type TagMap = BTreeMap<String, String>;

/// The same as they are read, borrowed from the record: a million of them are read at a start.
#[derive(Default)]
struct TagList<'r>(Vec<(Cow<'r, str>, Cow<'r, str>)>);

impl<'de: 'r, 'r> Deserialize<'de> for TagList<'r> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct TagVisitor;

        impl<'de> Visitor<'de> for TagVisitor {
            type Value = TagList<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object of texts")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
                let mut tags = Vec::with_capacity(4);
                while let Some((Text(key), Text(value))) = map.next_entry()? {
                    tags.push((key, value));
                }
                Ok(TagList(tags))
            }
        }

        deserializer.deserialize_map(TagVisitor)
    }
}

/// A text, borrowed where it has no escapes.
#[derive(Deserialize)]
struct Text<'r>(#[serde(borrow)] Cow<'r, str>);

impl Records {
    /// Opens the file and brings it to this version's schema.
    pub fn open(path: PathBuf) -> Result<Self, StoreError> {
        let mut connection = sqlite::open(&path, Use::Records)?;
        let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0)).at("read", &path)?;
        if found > FORMAT {
            return Err(StoreError::Newer { path, found, known: FORMAT });
        }
        let migrated = Migrations::new(vec![M::up(FORMAT_1), M::up(FORMAT_2)]).to_latest(&mut connection);
        migrated.map_err(|error| match error {
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
        let mut codes = self.load_codes()?;
        let mut statement = self.connection.prepare("SELECT id, metric, tags FROM series ORDER BY id")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let id: u32 = row.get(0)?;
            let Some((home, metric)) = metrics.get(&row.get(1)?) else { continue };
            let tags: TagList<'_> = serde_json::from_str(row.get_ref(2)?.as_str()?).unwrap_or_default();
            if let Some(dataset) = catalogue.dataset_mut(home) {
                let tags = tags.0.iter().map(|(key, value)| (&**key, &**value));
                dataset.put_series(SeriesId(id), metric, tags, codes.remove(&id));
            }
        }
        Ok(())
    }

    /// What the stored numbers of states and histograms stand for, by series.
    fn load_codes(&self) -> rusqlite::Result<BTreeMap<u32, Codes>> {
        let mut codes = BTreeMap::new();
        let mut statement = self.connection.prepare("SELECT series, word FROM word ORDER BY series, code")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            if let Codes::Words(words) = codes.entry(row.get(0)?).or_insert_with(|| Codes::Words(Vec::new())) {
                words.push(row.get::<_, String>(1)?.into());
            }
        }
        let mut statement = self.connection.prepare("SELECT series, bounds, first_part FROM layout ORDER BY series, code")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let bounds: Vec<f64> = serde_json::from_str(row.get_ref(1)?.as_str()?).unwrap_or_default();
            if let Codes::Layouts(layouts) = codes.entry(row.get(0)?).or_insert_with(|| Codes::Layouts(Vec::new())) {
                layouts.push(Layout { bounds: bounds.into(), first_part: SeriesId(row.get(2)?) });
            }
        }
        Ok(codes)
    }

    /// The highest generation that the head has begun; 0 in a fresh store.
    pub fn generation(&self) -> Result<u64, StoreError> {
        let found = self.connection.query_row("SELECT value FROM state WHERE key = ?1", [GENERATION], |row| row.get::<_, i64>(0));
        found.optional().map(|number| number.unwrap_or(0).cast_unsigned()).at("read", &self.path)
    }

    /// Copies everything into a new file, as it is at this moment.
    pub fn copy_to(&self, path: &std::path::Path) -> Result<(), StoreError> {
        self.connection.execute("VACUUM INTO ?1", [path.to_string_lossy()]).map(|_| ()).at("copy the catalogue to", path)
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

    /// Notes that the head has begun a generation.
    pub fn set_generation(&self, number: u64) -> rusqlite::Result<()> {
        let set = "INSERT INTO state (key, value) VALUES (?1, ?2) ON CONFLICT (key) DO UPDATE SET value = ?2";
        self.0.prepare_cached(set)?.execute(params![GENERATION, number.cast_signed()]).map(|_| ())
    }

    /// Adds a layout of a histogram's series, with ids for its parts.
    pub fn add_layout(&self, series: SeriesId, code: usize, bounds: &[f64]) -> rusqlite::Result<Layout> {
        let last = "SELECT first_part, bounds FROM layout ORDER BY first_part DESC LIMIT 1";
        let last = self.0.prepare_cached(last)?.query_row([], |row| Ok((row.get::<_, u32>(0)?, row.get::<_, String>(1)?))).optional()?;
        let next = last.map(|(first, bounds)| {
            let bounds: Vec<f64> = serde_json::from_str(&bounds).unwrap_or_default();
            Layout { bounds: bounds.into(), first_part: SeriesId(first) }.parts().len() as u32 + first
        });
        let layout = Layout { bounds: bounds.into(), first_part: SeriesId(next.unwrap_or(FIRST_PART)) };
        let text = serde_json::to_string(bounds).map_err(|error| rusqlite::Error::ToSqlConversionFailure(Box::new(error)))?;
        let add = "INSERT INTO layout (series, code, bounds, first_part) VALUES (?1, ?2, ?3, ?4)";
        self.0.prepare_cached(add)?.execute(params![series.0, code as i64, text, layout.first_part.0])?;
        Ok(layout)
    }
}
