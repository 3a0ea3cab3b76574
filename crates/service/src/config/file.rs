//! Changing the configuration file: what a person wrote there stays, comments and order too.

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io::{self, Write},
    path::Path,
};

use fenetre_core::keeping::LimitSettings;
use fenetre_store::FileRetention;
use toml_edit::{DocumentMut, Item, Table, value};

use crate::config::Config;

/// Writes limits into the file, by place: empty for the store, `velmar`, or `velmar::level`. Says what the file says of keeping then.
///
/// # Errors
/// If the file cannot be read, changed or written, in a sentence.
pub fn write_retention(path: &Path, limits: &BTreeMap<String, LimitSettings>) -> Result<FileRetention, String> {
    let name = path.display();
    let text = fs::read_to_string(path).map_err(|error| format!("cannot read {name}: {error}"))?;
    let text = with_retention(&text, limits).map_err(|reason| format!("{name} cannot be changed: {reason}"))?;
    // The new text must be readable before it replaces the file.
    let config = Config::parse(&text, &name.to_string()).map_err(|error| error.to_string())?;
    let beside = path.with_extension("toml.new");
    write_whole(&beside, path, &text).map_err(|error| format!("cannot write {name}: {error}"))?;
    Ok(config.store_options.retention)
}

/// Replaces a file. When this returns, the new file is on stable storage.
fn write_whole(beside: &Path, path: &Path, text: &str) -> io::Result<()> {
    let mut file = File::create(beside)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    fs::rename(beside, path)?;
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    File::open(folder)?.sync_all()
}

fn with_retention(text: &str, limits: &BTreeMap<String, LimitSettings>) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| error.message().to_owned())?;
    for (place, limits) in limits {
        let (dataset, metric) = place.split_once("::").map_or((place.as_str(), None), |(dataset, metric)| (dataset, Some(metric)));
        let mut path = vec!["retention"];
        if !dataset.is_empty() {
            path.extend(["datasets", dataset]);
        }
        path.extend(metric.iter().flat_map(|metric| ["metrics", metric]));
        let table = table_at(document.as_table_mut(), &path)?;
        set(table, "keep_for", limits.keep_for.map(|limit| limit.map(|span| span.to_string())));
        set(table, "keep_under", limits.keep_under.map(|limit| limit.map(|size| size.to_string())));
    }
    Ok(document.to_string())
}

/// The table at a path, made where it is missing.
fn table_at<'t>(mut table: &'t mut Table, path: &[&str]) -> Result<&'t mut Table, String> {
    for (at, key) in path.iter().enumerate() {
        let item = table.entry(key).or_insert_with(|| {
            let mut table = Table::new();
            // Only the last one has a header of its own.
            table.set_implicit(at + 1 < path.len());
            Item::Table(table)
        });
        table = item.as_table_mut().ok_or_else(|| format!("`{key}` is not a table"))?;
    }
    Ok(table)
}

/// An unset limit leaves its key; an explicit `none` removes it.
fn set(table: &mut Table, key: &str, limits: Option<Option<String>>) {
    match limits {
        Some(Some(limit)) => table[key] = value(limit),
        Some(None) => {
            table.remove(key);
        }
        None => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn handwritten_text_stays() {
        let text = "# ours\n[store]\npath = \"data\" # here\n\n[retention]\n# a year and a bit\nkeep_for = \"400d\"\n\n[retention.datasets.velmar]\nkeep_for = \"90d\"\n";
        let limits: BTreeMap<String, LimitSettings> = [
            (String::new(), r#"{"keep_under":"20GB"}"#),
            ("velmar".to_owned(), r#"{"keep_for":null}"#),
            ("velmar::turbidity".to_owned(), r#"{"keep_for":"14d"}"#),
        ]
        .into_iter()
        .map(|(place, limits)| (place, serde_json::from_str(limits).unwrap()))
        .collect();
        insta::assert_snapshot!(with_retention(text, &limits).unwrap());
        assert!(with_retention("[retention", &limits).is_err());
        assert_eq!(with_retention("retention = 3\n", &limits).unwrap_err(), "`retention` is not a table");
    }

    #[test]
    fn a_file_is_replaced_only_by_a_readable_one() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("fenetre.toml");
        fs::write(&path, "").unwrap();
        let limits = BTreeMap::from([("velmar".to_owned(), serde_json::from_str(r#"{"keep_for":"2w"}"#).unwrap())]);
        let written = write_retention(&path, &limits).unwrap();
        assert!(written.datasets.contains_key("velmar"));
        assert_eq!(fs::read_to_string(&path).unwrap(), "[retention.datasets.velmar]\nkeep_for = \"2w\"\n");
        assert!(write_retention(&folder.path().join("none.toml"), &limits).unwrap_err().contains("cannot read"));
    }
}
