//! `fenetre apply`: a folder of definitions, for people who keep them in version control.
//!
//! ```text
//! FOLDER/velmar.toml          the dataset `velmar`: zone, description, limits, [metrics.NAME], [tags.KEY]
//! FOLDER/mappings/NAME.toml   a mapping
//! FOLDER/sources/NAME.toml    a source
//! FOLDER/sinks/NAME.toml      a sink
//! ```

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    process::ExitCode,
};

use fenetre_core::model::{DatasetDefinition, MetricDefinition, TagDefinition, renamed_key};
use fenetre_formats::mapping::Mapping;
use fenetre_wire::{
    definitions::MetricDefinitions,
    flows::{DefinedFlow, FlowDifference},
};
use serde::Deserialize;

use super::{definitions, flows::read_definition, import::read_mapping};
use crate::{
    args::ApplyArgs,
    client::{Client, flows::Flow},
    confirm::confirm,
    failure::{DONE, FAILED, Failure, SOME_REJECTED, WRONG},
};

/// A dataset's file.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default)]
    dataset: DatasetDefinition,
    #[serde(default)]
    metrics: BTreeMap<String, MetricDefinition>,
    #[serde(default)]
    tags: BTreeMap<String, TagDefinition>,
}

/// Everything that a folder says.
struct Wanted {
    datasets: BTreeMap<String, File>,
    mappings: BTreeMap<String, Mapping>,
    /// Names and texts of definitions, which the service compares.
    flows: Vec<(Flow, String, String)>,
}

/// Applies the folder.
pub fn run(args: &ApplyArgs) -> Result<ExitCode, Failure> {
    let wanted = read(&args.folder)?;
    let client = Client::of(&args.service)?;
    let mut differs = false;
    for (name, file) in &wanted.datasets {
        differs |= compare(&client, name, file)?;
    }
    let kept: BTreeMap<String, Mapping> = client.mappings()?.into_iter().map(|kept| (kept.name, kept.mapping)).collect();
    for (name, mapping) in &wanted.mappings {
        match kept.get(name) {
            None => outln!("+ mapping {name}"),
            Some(known) if known != mapping => outln!("~ mapping {name}"),
            Some(_) => continue,
        }
        differs = true;
    }
    for (flow, name, text) in &wanted.flows {
        differs |= show_difference(flow.noun(), name, client.put_flow(*flow, name, text, true)?);
    }
    if !differs {
        outln!("the store already matches the folder");
        return Ok(ExitCode::from(DONE));
    }
    if args.dry_run {
        return Ok(ExitCode::from(SOME_REJECTED));
    }
    if !confirm(args.yes, "Apply all of this?", "yes")? {
        return Ok(ExitCode::from(DONE));
    }
    for (name, file) in wanted.datasets {
        client.put_dataset(&name, &file.dataset)?;
        client.put_metrics(&name, &MetricDefinitions { metrics: file.metrics, dry_run: false })?;
        file.tags.iter().try_for_each(|(key, tag)| client.put_tag(&name, key, tag).map(|_| ()))?;
    }
    wanted.mappings.iter().try_for_each(|(name, mapping)| client.put_mapping(name, mapping).map(|_| ()))?;
    wanted.flows.iter().try_for_each(|(flow, name, text)| client.put_flow(*flow, name, text, false).map(|_| ()))?;
    outln!("applied");
    Ok(ExitCode::from(DONE))
}

fn files(folder: &Path) -> Result<Vec<(String, PathBuf)>, Failure> {
    let failed = |error: std::io::Error| Failure::new(FAILED, format!("cannot read {}: {error}", folder.display()));
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).map_err(failed)? {
        let path = entry.map_err(failed)?.path();
        let name = path.file_stem().map(|name| name.to_string_lossy().into_owned());
        if let Some(name) = name.filter(|_| path.extension().is_some_and(|ending| ending == "toml")) {
            found.push((name, path));
        }
    }
    Ok(found)
}

/// Reads and checks everything before anything is changed.
fn read(folder: &Path) -> Result<Wanted, Failure> {
    let mut wanted = Wanted { datasets: BTreeMap::new(), mappings: BTreeMap::new(), flows: Vec::new() };
    for (name, path) in files(folder)? {
        let wrong = |error: String| Failure::new(WRONG, format!("{}: {error}", path.display()));
        let text = fs::read_to_string(&path).map_err(|error| wrong(error.to_string()))?;
        let file: File = toml::from_str(&text).map_err(|error| {
            let renamed = text.lines().find_map(|line| {
                let key = line.split('=').next().unwrap_or_default().trim();
                renamed_key(key).map(|new| format!("\n`{key}` is called `{new}` now"))
            });
            wrong(format!("{}{}", error.to_string().trim_end(), renamed.unwrap_or_default()))
        })?;
        for (metric, definition) in &file.metrics {
            definition.check().map_err(|error| wrong(format!("metrics.{metric}: {error}")))?;
        }
        for (key, tag) in &file.tags {
            tag.check().map_err(|error| wrong(format!("tags.{key}: {error}")))?;
        }
        wanted.datasets.insert(name, file);
    }
    let mappings = folder.join("mappings");
    if mappings.exists() {
        for (name, path) in files(&mappings)? {
            wanted.mappings.insert(name, read_mapping(&path)?);
        }
    }
    for (flow, name) in [(Flow::Source, "sources"), (Flow::Sink, "sinks")] {
        let folder = folder.join(name);
        if folder.exists() {
            for (name, path) in files(&folder)? {
                wanted.flows.push((flow, name, read_definition(flow, &path)?));
            }
        }
    }
    if wanted.datasets.is_empty() && wanted.mappings.is_empty() && wanted.flows.is_empty() {
        let reason = format!("{} holds no DATASET.toml, mappings/NAME.toml, sources/NAME.toml or sinks/NAME.toml", folder.display());
        return Err(Failure::new(WRONG, reason));
    }
    Ok(wanted)
}

/// Shows how a source or a sink differs from its file; returns whether it does.
fn show_difference(what: &str, name: &str, compared: DefinedFlow) -> bool {
    match compared.difference {
        FlowDifference::New => outln!("+ {what} {name}"),
        FlowDifference::Changed => outln!("~ {what} {name}: {} → {}", compared.before.unwrap_or_default(), compared.after),
        FlowDifference::None => return false,
    }
    true
}

/// Shows where the store differs from a dataset's file; returns whether it does.
fn compare(client: &Client, name: &str, file: &File) -> Result<bool, Failure> {
    let Some(known) = client.datasets()?.into_iter().find(|dataset| dataset.name == name) else {
        outln!("+ dataset {name}, with {} metrics and {} tags", file.metrics.len(), file.tags.len());
        return Ok(true);
    };
    let mut differs = false;
    if known.definition != file.dataset {
        outln!("~ dataset {name}: {} → {}", serde_json::to_string(&known.definition)?, serde_json::to_string(&file.dataset)?);
        differs = true;
    }
    let tags: BTreeMap<String, TagDefinition> = client.tags(name, None)?.into_iter().filter_map(|tag| Some((tag.key, tag.definition?))).collect();
    for (key, tag) in &file.tags {
        match tags.get(key) {
            None => outln!("+ tag {key}"),
            Some(known) if known != tag => outln!("~ tag {key}: {} → {}", serde_json::to_string(known)?, serde_json::to_string(tag)?),
            Some(_) => continue,
        }
        differs = true;
    }
    let order = MetricDefinitions { metrics: file.metrics.clone(), dry_run: true };
    differs |= definitions::show(name, &client.put_metrics(name, &order)?);
    let others: Vec<String> =
        client.metrics(name)?.into_iter().map(|metric| metric.name).filter(|metric| !file.metrics.contains_key(metric)).collect();
    if !others.is_empty() {
        outln!("only in the store, unchanged: {}", others.join(", "));
    }
    Ok(differs)
}
