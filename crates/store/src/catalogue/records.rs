//! The catalogue's records in SQLite, read into memory at start and written before anything that refers to them.

use std::{
    borrow::Cow,
    collections::BTreeMap,
    fmt,
    path::{Path, PathBuf},
};

use fenetre_core::{
    catalogue::{Catalogue, Codes, FIRST_PART, Layout},
    model::{DatasetDefinition, DatasetId, MetricDefinition, MetricId, RollupPolicy, SeriesId, TagDefinition},
    time::Nanos,
};
use rusqlite::{Connection, OptionalExtension, Transaction, TransactionBehavior, params};
use rusqlite_migration::{M, Migrations};
use serde::{
    Deserialize, Deserializer,
    de::{MapAccess, Visitor},
};

use super::documents::{Document, DocumentKind, Kept};
use crate::{
    disk::sqlite::{self, Use},
    error::{Context, RecordFault, StoreError},
    partition::origin::Highest,
};

/// The format of the store, which is the number of the catalogue's last migration.
pub const FORMAT: i64 = 5;
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
/// Definitions are documents, which later versions can add to. A dataset's folder keeps the name that it was made under. A metric in the bin
/// has a mark after its name that no name can hold, so that another one can take the name. Old names point at what has them no more.
const FORMAT_3: &str = "
ALTER TABLE dataset ADD COLUMN folder TEXT NOT NULL DEFAULT '';
ALTER TABLE dataset ADD COLUMN definition TEXT NOT NULL DEFAULT '{}';
UPDATE dataset SET folder = name, definition = json_object('zone', zone, 'description', description);
ALTER TABLE dataset DROP COLUMN zone;
ALTER TABLE dataset DROP COLUMN description;
ALTER TABLE metric ADD COLUMN definition TEXT NOT NULL DEFAULT '{}';
ALTER TABLE metric ADD COLUMN binned INTEGER;
UPDATE metric SET definition = json_object('kind', kind, 'unit', unit, 'shape', shape, 'description', description);
ALTER TABLE metric DROP COLUMN kind;
ALTER TABLE metric DROP COLUMN unit;
ALTER TABLE metric DROP COLUMN shape;
ALTER TABLE metric DROP COLUMN description;
CREATE TABLE tag (
    dataset INTEGER NOT NULL REFERENCES dataset, key TEXT NOT NULL, definition TEXT NOT NULL, PRIMARY KEY (dataset, key)
) STRICT, WITHOUT ROWID;
CREATE TABLE old_name (
    noun TEXT NOT NULL, dataset INTEGER NOT NULL, name TEXT NOT NULL, id INTEGER, key TEXT, PRIMARY KEY (noun, dataset, name)
) STRICT, WITHOUT ROWID;
CREATE TABLE document (
    sort TEXT NOT NULL, name TEXT NOT NULL, body TEXT NOT NULL, changed INTEGER NOT NULL, PRIMARY KEY (sort, name)
) STRICT, WITHOUT ROWID;
";
/// An index over each text: so a text is in the file twice, and SQLite's integrity check finds a byte that was changed in one of both places.
const FORMAT_4: &str = "
CREATE INDEX dataset_text ON dataset (folder, definition);
CREATE INDEX metric_text ON metric (definition, binned);
CREATE INDEX tag_text ON tag (definition);
CREATE INDEX document_text ON document (body, changed);
CREATE INDEX word_text ON word (word);
CREATE INDEX layout_text ON layout (bounds, first_part);
CREATE INDEX old_name_text ON old_name (id, key);
CREATE INDEX state_value ON state (value);
";
/// Each document has the version of its body. Limits in definitions have the names of today: a quote before a colon ends a key, since quotes
/// within texts are escaped.
const FORMAT_5: &str = "
UPDATE dataset SET definition = replace(replace(replace(replace(definition, '\"most_series\":', '\"max_series\":'),
    '\"most_series_per_metric\":', '\"max_series_per_metric\":'), '\"longest_tag_value\":', '\"max_tag_value_bytes\":'), '\"most_tags\":', '\"max_tags\":');
UPDATE metric SET definition = replace(replace(definition, '\"most_series\":', '\"max_series\":'), '\"longest_silence\":', '\"max_silence\":');
UPDATE tag SET definition = replace(definition, '\"most_values\":', '\"max_values\":');
ALTER TABLE document ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
DROP INDEX document_text;
CREATE INDEX document_text ON document (body, changed, version);
";
const GENERATION: &str = "generation";
/// The random number of the store, which its files carry.
const STORE: &str = "store";
/// The highest ids that series, and parts of histograms, ever had: ids are not used again.
const HIGHEST_SERIES: &str = "highest_series";
const HIGHEST_PART: &str = "highest_part";
/// Parts the name of a metric in the bin from its id.
const BINNED: char = '\u{1}';

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
    /// The catalogue's file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Opens the file and brings it to this version's schema.
    pub fn open(path: PathBuf) -> Result<Self, StoreError> {
        let mut connection = sqlite::open(&path, Use::Records)?;
        let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0)).at("read", &path)?;
        if found > FORMAT {
            return Err(StoreError::Newer { path, found, known: FORMAT });
        }
        let migrated =
            Migrations::new(vec![M::up(FORMAT_1), M::up(FORMAT_2), M::up(FORMAT_3), M::up(FORMAT_4), M::up(FORMAT_5)]).to_latest(&mut connection);
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
        let mut statement = self.connection.prepare("SELECT id, name, folder, definition FROM dataset")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let (id, name): (u32, String) = (row.get(0)?, row.get(1)?);
            let definition: DatasetDefinition = read_document(row.get_ref(3)?.as_str()?, || format!("the dataset `{name}`"))?;
            catalogue.put_dataset(DatasetId(id), &name, &row.get::<_, String>(2)?, definition);
            names.insert(id, name);
        }
        let mut metrics: BTreeMap<u32, (String, String)> = BTreeMap::new();
        let mut statement = self.connection.prepare("SELECT id, dataset, name, definition FROM metric WHERE binned IS NULL")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let (id, name): (u32, String) = (row.get(0)?, row.get(2)?);
            let definition: MetricDefinition = read_document(row.get_ref(3)?.as_str()?, || format!("the metric `{name}` ({id})"))?;
            let home = names.get(&row.get(1)?).ok_or_else(|| fault(format!("the metric `{name}` ({id})"), "its dataset is not there"))?;
            if let Some(dataset) = catalogue.dataset_mut(home) {
                dataset.put_metric(MetricId(id), &name, definition);
            }
            metrics.insert(id, (home.clone(), name));
        }
        let mut statement = self.connection.prepare("SELECT dataset, key, definition FROM tag")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let key: String = row.get(1)?;
            let of = || format!("the tag `{key}`");
            let definition: TagDefinition = read_document(row.get_ref(2)?.as_str()?, of)?;
            let dataset =
                names.get(&row.get(0)?).and_then(|home| catalogue.dataset_mut(home)).ok_or_else(|| fault(of(), "its dataset is not there"))?;
            dataset.tag_definitions.insert(key, definition);
        }
        self.check_kinds()?;
        for Kept { name, body, .. } in self.read_documents::<RollupPolicy>()? {
            let place = name.split_once('.').and_then(|(id, policy)| Some((names.get(&id.parse().ok()?)?, policy)));
            let dataset = place.and_then(|(home, policy)| Some((catalogue.dataset_mut(home)?, policy)));
            let (dataset, policy) = dataset.ok_or_else(|| fault(record_of(RollupPolicy::KIND, &name), "its dataset is not there"))?;
            dataset.rollups.insert(policy.to_owned(), body);
        }
        self.load_old_names(catalogue, &names, &metrics)?;
        let mut codes = self.load_codes()?;
        let mut statement = self.connection.prepare("SELECT id, metric, tags FROM series ORDER BY id")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let id: u32 = row.get(0)?;
            // Those of metrics in the bin are not in the catalogue.
            let Some((home, metric)) = metrics.get(&row.get(1)?) else { continue };
            let tags: TagList<'_> = read_document(row.get_ref(2)?.as_str()?, || format!("the series {id} of `{metric}`"))?;
            if let Some(dataset) = catalogue.dataset_mut(home) {
                let tags = tags.0.iter().map(|(key, value)| (&**key, &**value));
                dataset.put_series(SeriesId(id), metric, tags, codes.remove(&id));
            }
        }
        Ok(())
    }

    fn load_old_names(
        &self,
        catalogue: &mut Catalogue,
        datasets: &BTreeMap<u32, String>,
        metrics: &BTreeMap<u32, (String, String)>,
    ) -> rusqlite::Result<()> {
        let mut statement = self.connection.prepare("SELECT noun, dataset, name, id, key FROM old_name")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let (noun, home, old): (String, u32, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
            let (id, key): (Option<u32>, Option<String>) = (row.get(3)?, row.get(4)?);
            let dataset = datasets.get(&home);
            match noun.as_str() {
                "dataset" => {
                    if let Some(name) = id.and_then(|id| datasets.get(&id)) {
                        catalogue.put_old_name(&old, name);
                    }
                }
                "metric" => {
                    if let (Some(home), Some((_, name))) = (dataset, id.and_then(|id| metrics.get(&id)))
                        && let Some(home) = catalogue.dataset_mut(home)
                    {
                        home.put_old_metric(&old, name);
                    }
                }
                _ => {
                    if let (Some(home), Some(key)) = (dataset.and_then(|home| catalogue.dataset_mut(home)), key) {
                        home.put_old_tag(&old, &key);
                    }
                }
            }
        }
        Ok(())
    }

    /// Metrics in the bin.
    pub fn binned_metrics(&self) -> Result<Vec<BinnedMetric>, StoreError> {
        let text = "SELECT metric.id, metric.dataset, metric.name, binned, (SELECT count(*) FROM series WHERE series.metric = metric.id)
                    FROM metric WHERE binned IS NOT NULL ORDER BY binned";
        let metric = |row: &rusqlite::Row<'_>| {
            let name: String = row.get(2)?;
            Ok(BinnedMetric {
                id: MetricId(row.get(0)?),
                dataset: DatasetId(row.get(1)?),
                name: name.split(BINNED).next().unwrap_or_default().to_owned(),
                binned: row.get(3)?,
                series: row.get::<_, i64>(4)?.cast_unsigned(),
            })
        };
        let read = || self.connection.prepare(text)?.query_map([], metric)?.collect::<rusqlite::Result<Vec<_>>>();
        read().at("read", &self.path)
    }

    /// Series of a metric, and ids of the parts of those that are histograms.
    pub fn series_of(&self, metric: MetricId) -> Result<Vec<SeriesId>, StoreError> {
        let read = || -> rusqlite::Result<Vec<SeriesId>> {
            let mut series = self
                .connection
                .prepare("SELECT id FROM series WHERE metric = ?1")?
                .query_map([metric.0], |row| row.get(0).map(SeriesId))?
                .collect::<rusqlite::Result<Vec<_>>>()?;
            let mut layouts =
                self.connection.prepare("SELECT first_part, bounds FROM layout WHERE series IN (SELECT id FROM series WHERE metric = ?1)")?;
            let mut rows = layouts.query([metric.0])?;
            while let Some(row) = rows.next()? {
                let bounds: Vec<f64> = read_document(row.get_ref(1)?.as_str()?, || format!("a histogram's layout of the metric {}", metric.0))?;
                series.extend(Layout { bounds: bounds.into(), first_part: SeriesId(row.get(0)?) }.parts());
            }
            Ok(series)
        };
        read().at("read", &self.path)
    }

    /// Every document is of a known kind.
    fn check_kinds(&self) -> rusqlite::Result<()> {
        let mut statement = self.connection.prepare("SELECT sort, min(name) FROM document GROUP BY sort")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let (sort, name): (String, String) = (row.get(0)?, row.get(1)?);
            if DocumentKind::from_name(&sort).is_none() {
                return Err(fault(format!("the document `{name}`"), format!("its kind `{sort}` is unknown")));
            }
        }
        Ok(())
    }

    /// Documents of a kind, by name.
    pub fn documents<D: Document>(&self) -> Result<Vec<Kept<D>>, StoreError> {
        self.read_documents().at("read", &self.path)
    }

    fn read_documents<D: Document>(&self) -> rusqlite::Result<Vec<Kept<D>>> {
        let mut statement = self.connection.prepare_cached("SELECT name, body, changed, version FROM document WHERE sort = ?1 ORDER BY name")?;
        statement.query_map([D::KIND.as_str()], kept)?.collect()
    }

    /// Names of the documents of a kind, whether they can be read or not.
    pub fn document_names(&self, kind: DocumentKind) -> Result<Vec<String>, StoreError> {
        let read = || {
            let mut statement = self.connection.prepare_cached("SELECT name FROM document WHERE sort = ?1 ORDER BY name")?;
            statement.query_map([kind.as_str()], |row| row.get(0))?.collect::<rusqlite::Result<Vec<_>>>()
        };
        read().at("read", &self.path)
    }

    /// A document by its name.
    pub fn document<D: Document>(&self, name: &str) -> Result<Option<Kept<D>>, StoreError> {
        let read = || {
            let mut statement = self.connection.prepare_cached("SELECT name, body, changed, version FROM document WHERE sort = ?1 AND name = ?2")?;
            statement.query_row([D::KIND.as_str(), name], kept).optional()
        };
        read().at("read", &self.path)
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
            let series: u32 = row.get(0)?;
            let bounds: Vec<f64> = read_document(row.get_ref(1)?.as_str()?, || format!("a histogram's layout of the series {series}"))?;
            if let Codes::Layouts(layouts) = codes.entry(series).or_insert_with(|| Codes::Layouts(Vec::new())) {
                layouts.push(Layout { bounds: bounds.into(), first_part: SeriesId(row.get(2)?) });
            }
        }
        Ok(codes)
    }

    /// The highest generation that the head has begun; 0 in a fresh store.
    pub fn generation(&self) -> Result<u64, StoreError> {
        self.state(GENERATION).map(|number| number.unwrap_or(0).cast_unsigned())
    }

    fn state(&self, key: &str) -> Result<Option<i64>, StoreError> {
        let found = self.connection.query_row("SELECT value FROM state WHERE key = ?1", [key], |row| row.get(0));
        found.optional().at("read", &self.path)
    }

    /// The number of this store; 0 before [`Changes::found_store`].
    pub fn store(&self) -> Result<i64, StoreError> {
        self.state(STORE).map(|found| found.unwrap_or(0))
    }

    /// The highest ids that were ever given.
    pub fn highest(&self) -> Result<Highest, StoreError> {
        highest_of(&self.connection).at("read", &self.path)
    }

    /// SQLite's own check of the whole file: faults, one sentence each.
    pub fn check_integrity(&self) -> Result<Vec<String>, StoreError> {
        sqlite::check_integrity(&self.connection).at("read", &self.path)
    }

    /// Copies everything into a new file, as it is at this moment.
    pub fn copy_to(&self, path: &std::path::Path) -> Result<(), StoreError> {
        self.connection.execute("VACUUM INTO ?1", [path.to_string_lossy()]).map(|_| ()).at("copy the catalogue to", path)
    }

    /// Runs changes in one transaction, which is on stable storage when this returns.
    pub fn change<T>(&mut self, work: impl FnOnce(&Changes<'_>) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        let run = |connection: &mut Connection| -> rusqlite::Result<T> {
            let changes = Changes(connection.transaction_with_behavior(TransactionBehavior::Immediate)?);
            let done = work(&changes)?;
            changes.0.commit()?;
            Ok(done)
        };
        run(&mut self.connection).at("write", &self.path)
    }
}

fn highest_of(connection: &Connection) -> rusqlite::Result<Highest> {
    let state = |key: &str| connection.query_row("SELECT coalesce(max(value), 0) FROM state WHERE key = ?1", [key], |row| row.get(0));
    let mut highest = Highest { series: state(HIGHEST_SERIES)?, part: state(HIGHEST_PART)? };
    highest.series = connection.query_row("SELECT coalesce(max(id), 0) FROM series", [], |row| row.get::<_, u32>(0))?.max(highest.series);
    let mut last = connection.prepare_cached("SELECT first_part, bounds FROM layout ORDER BY first_part DESC LIMIT 1")?;
    let last = last.query_row([], |row| Ok((row.get::<_, u32>(0)?, row.get::<_, String>(1)?))).optional()?;
    if let Some((first, bounds)) = last {
        let bounds: Vec<f64> = read_document(&bounds, || format!("the histogram's layout whose parts begin at {first}"))?;
        Layout { bounds: bounds.into(), first_part: SeriesId(first) }.parts().for_each(|part| highest.add(part));
    }
    Ok(highest)
}

/// Reads a stored record. An unreadable record is an error: a default would change rules or series without notice.
fn read_document<'t, T: serde::Deserialize<'t>>(text: &'t str, record: impl FnOnce() -> String) -> rusqlite::Result<T> {
    serde_json::from_str(text).map_err(|error| fault(record(), error))
}

/// What a document is called in messages.
pub fn record_of(kind: DocumentKind, name: &str) -> String {
    format!("the {} document `{name}`", kind.as_str())
}

fn kept<D: Document>(row: &rusqlite::Row<'_>) -> rusqlite::Result<Kept<D>> {
    let name: String = row.get(0)?;
    let of = || record_of(D::KIND, &name);
    let (version, known): (u32, u32) = (row.get(3)?, D::KIND.version());
    if version > known {
        return Err(fault(of(), format!("its version is {version}, and this version of Fenetre reads up to {known}")));
    }
    let body = read_document(row.get_ref(1)?.as_str()?, of)?;
    Ok(Kept { name, body, changed: row.get(2)? })
}

fn fault(record: String, reason: impl fmt::Display) -> rusqlite::Error {
    RecordFault { record, reason: reason.to_string() }.into()
}

fn write_document(document: &impl serde::Serialize) -> rusqlite::Result<String> {
    serde_json::to_string(document).map_err(|error| rusqlite::Error::ToSqlConversionFailure(Box::new(error)))
}

/// A deleted metric that can be restored.
#[derive(Clone, Debug)]
pub struct BinnedMetric {
    pub id: MetricId,
    pub dataset: DatasetId,
    pub name: String,
    /// When.
    pub binned: Nanos,
    pub series: u64,
}

/// Changes that are kept together or not at all.
pub struct Changes<'c>(Transaction<'c>);

impl Changes<'_> {
    /// Adds a dataset, whose folder has its name or that name with a number, or changes its definition.
    pub fn put_dataset(&self, name: &str, definition: &DatasetDefinition) -> rusqlite::Result<(DatasetId, String)> {
        let is_used =
            |folder: &str| self.0.query_row("SELECT EXISTS (SELECT 1 FROM dataset WHERE folder = ?1)", [folder], |row| row.get::<_, bool>(0));
        let mut folder = name.to_owned();
        let mut number = 2;
        while is_used(&folder)? {
            folder = format!("{name}-{number}");
            number += 1;
        }
        let put = "INSERT INTO dataset (name, folder, definition) VALUES (?1, ?2, ?3)
                   ON CONFLICT (name) DO UPDATE SET definition = ?3 RETURNING id, folder";
        self.0.query_row(put, params![name, folder, write_document(definition)?], |row| Ok((DatasetId(row.get(0)?), row.get(1)?)))
    }

    pub fn put_metric(&self, dataset: DatasetId, name: &str, definition: &MetricDefinition) -> rusqlite::Result<MetricId> {
        let put = "INSERT INTO metric (dataset, name, definition) VALUES (?1, ?2, ?3)
                   ON CONFLICT (dataset, name) DO UPDATE SET definition = ?3 RETURNING id";
        let values = params![dataset.0, name, write_document(definition)?];
        self.0.prepare_cached(put)?.query_row(values, |row| row.get(0)).map(MetricId)
    }

    pub fn put_tag(&self, dataset: DatasetId, key: &str, definition: &TagDefinition) -> rusqlite::Result<()> {
        let put = "INSERT INTO tag (dataset, key, definition) VALUES (?1, ?2, ?3) ON CONFLICT (dataset, key) DO UPDATE SET definition = ?3";
        self.0.execute(put, params![dataset.0, key, write_document(definition)?]).map(|_| ())
    }

    /// Renames a dataset; the old name still works.
    pub fn rename_dataset(&self, id: DatasetId, old: &str, name: &str) -> rusqlite::Result<()> {
        self.0.execute("UPDATE dataset SET name = ?2 WHERE id = ?1", params![id.0, name])?;
        self.keep_old_name("dataset", DatasetId(0), old, name, Some(id.0), None)
    }

    /// Renames a metric, likewise.
    pub fn rename_metric(&self, dataset: DatasetId, id: MetricId, old: &str, name: &str) -> rusqlite::Result<()> {
        self.0.execute("UPDATE metric SET name = ?2 WHERE id = ?1", params![id.0, name])?;
        self.keep_old_name("metric", dataset, old, name, Some(id.0), None)
    }

    /// Renames a tag in all series of a dataset, likewise.
    pub fn rename_tag(&self, dataset: DatasetId, old: &str, key: &str) -> rusqlite::Result<()> {
        let mut read = self.0.prepare("SELECT series.id, tags FROM series JOIN metric ON metric.id = series.metric WHERE dataset = ?1")?;
        let mut write = self.0.prepare("UPDATE series SET tags = ?2 WHERE id = ?1")?;
        let mut rows = read.query([dataset.0])?;
        while let Some(row) = rows.next()? {
            let id: u32 = row.get(0)?;
            let mut tags: TagMap = read_document(row.get_ref(1)?.as_str()?, || format!("the series {id}"))?;
            if let Some(value) = tags.remove(old) {
                tags.insert(key.to_owned(), value);
                write.execute(params![id, write_document(&tags)?])?;
            }
        }
        self.0.execute("UPDATE tag SET key = ?3 WHERE dataset = ?1 AND key = ?2", params![dataset.0, old, key])?;
        self.0.execute("UPDATE old_name SET key = ?3 WHERE noun = 'tag' AND dataset = ?1 AND key = ?2", params![dataset.0, old, key])?;
        self.keep_old_name("tag", dataset, old, key, None, Some(key))
    }

    fn keep_old_name(&self, noun: &str, dataset: DatasetId, old: &str, new: &str, id: Option<u32>, key: Option<&str>) -> rusqlite::Result<()> {
        self.forget_old_name(noun, dataset, new)?;
        let put = "INSERT INTO old_name (noun, dataset, name, id, key) VALUES (?1, ?2, ?3, ?4, ?5)
                   ON CONFLICT (noun, dataset, name) DO UPDATE SET id = ?4, key = ?5";
        self.0.execute(put, params![noun, dataset.0, old, id, key]).map(|_| ())
    }

    /// Removes an old name. Returns whether it existed.
    pub fn forget_old_name(&self, noun: &str, dataset: DatasetId, name: &str) -> rusqlite::Result<bool> {
        self.0.execute("DELETE FROM old_name WHERE noun = ?1 AND dataset = ?2 AND name = ?3", params![noun, dataset.0, name]).map(|count| count > 0)
    }

    /// Old names of a metric become those of another one.
    pub fn hand_over_old_names(&self, from: MetricId, to: MetricId) -> rusqlite::Result<()> {
        self.0.execute("UPDATE old_name SET id = ?2 WHERE noun = 'metric' AND id = ?1", params![from.0, to.0]).map(|_| ())
    }

    /// Puts a metric into the bin.
    pub fn bin_metric(&self, id: MetricId, name: &str, now: Nanos) -> rusqlite::Result<()> {
        self.0.execute("UPDATE metric SET binned = ?2, name = ?3 WHERE id = ?1", params![id.0, now, format!("{name}{BINNED}{}", id.0)]).map(|_| ())
    }

    /// Brings a metric back under a name.
    pub fn unbin_metric(&self, id: MetricId, name: &str) -> rusqlite::Result<()> {
        self.0.execute("UPDATE metric SET binned = NULL, name = ?2 WHERE id = ?1", params![id.0, name]).map(|_| ())
    }

    /// Forgets a metric and its series for good.
    pub fn erase_metric(&self, id: MetricId) -> rusqlite::Result<()> {
        self.set_highest(Highest::default())?;
        let of = "(SELECT id FROM series WHERE metric = ?1)";
        for table in ["word", "layout"] {
            self.0.execute(&format!("DELETE FROM {table} WHERE series IN {of}"), [id.0])?;
        }
        self.0.execute("DELETE FROM series WHERE metric = ?1", [id.0])?;
        self.0.execute("DELETE FROM old_name WHERE noun = 'metric' AND id = ?1", [id.0])?;
        self.0.execute("DELETE FROM metric WHERE id = ?1", [id.0]).map(|_| ())
    }

    /// Puts a document in the place of the one of that name.
    pub fn put_document<D: Document>(&self, name: &str, body: &D, changed: Nanos) -> rusqlite::Result<()> {
        let put = "INSERT INTO document (sort, name, body, changed, version) VALUES (?1, ?2, ?3, ?4, ?5)
                   ON CONFLICT (sort, name) DO UPDATE SET body = ?3, changed = ?4, version = ?5";
        let values = params![D::KIND.as_str(), name, write_document(body)?, changed, D::KIND.version()];
        self.0.prepare_cached(put)?.execute(values).map(|_| ())
    }

    /// Removes a document; returns whether there was one.
    pub fn remove_document<D: Document>(&self, name: &str) -> rusqlite::Result<bool> {
        self.0.execute("DELETE FROM document WHERE sort = ?1 AND name = ?2", params![D::KIND.as_str(), name]).map(|count| count > 0)
    }

    pub fn add_series(&self, metric: MetricId, tags: &TagMap) -> rusqlite::Result<SeriesId> {
        let text = write_document(tags)?;
        let add = "INSERT INTO series (id, metric, tags) SELECT 1 + max(
                       (SELECT coalesce(max(id), 0) FROM series), (SELECT coalesce(max(value), 0) FROM state WHERE key = ?3)
                   ), ?1, ?2 RETURNING id";
        self.0.prepare_cached(add)?.query_row(params![metric.0, text, HIGHEST_SERIES], |row| row.get(0)).map(SeriesId)
    }

    fn set_state(&self, key: &str, value: i64) -> rusqlite::Result<()> {
        let set = "INSERT INTO state (key, value) VALUES (?1, ?2) ON CONFLICT (key) DO UPDATE SET value = ?2";
        self.0.prepare_cached(set)?.execute(params![key, value]).map(|_| ())
    }

    /// Gives the store its number.
    pub fn found_store(&self, number: i64) -> rusqlite::Result<()> {
        self.set_state(STORE, number)
    }

    /// Gives no id up to these again.
    pub fn set_highest(&self, highest: Highest) -> rusqlite::Result<()> {
        let highest = highest_of(&self.0)?.max(highest);
        self.set_state(HIGHEST_SERIES, highest.series.into())?;
        self.set_state(HIGHEST_PART, highest.part.into())
    }

    pub fn add_word(&self, series: SeriesId, code: usize, word: &str) -> rusqlite::Result<()> {
        let add = "INSERT INTO word (series, code, word) VALUES (?1, ?2, ?3)";
        self.0.prepare_cached(add)?.execute(params![series.0, code as i64, word]).map(|_| ())
    }

    /// Notes that the head has begun a generation.
    pub fn set_generation(&self, number: u64) -> rusqlite::Result<()> {
        self.set_state(GENERATION, number.cast_signed())
    }

    /// Adds a layout of a histogram's series, with ids for its parts.
    pub fn add_layout(&self, series: SeriesId, code: usize, bounds: &[f64]) -> rusqlite::Result<Layout> {
        let highest = highest_of(&self.0)?.part;
        let first = if highest == 0 { FIRST_PART } else { highest + 1 };
        let layout = Layout { bounds: bounds.into(), first_part: SeriesId(first) };
        let text = write_document(&bounds)?;
        let add = "INSERT INTO layout (series, code, bounds, first_part) VALUES (?1, ?2, ?3, ?4)";
        self.0.prepare_cached(add)?.execute(params![series.0, code as i64, text, layout.first_part.0])?;
        Ok(layout)
    }
}
