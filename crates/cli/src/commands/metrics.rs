//! `fenetre metrics`

use std::{
    fs::File,
    io::{self, Read},
    path::Path,
    process::ExitCode,
};

use fenetre_core::{
    model::{Kind, MetricDefinition, Shape, Status, Temporality, Thinning, WhenPaused},
    time::Span,
    units,
};
use fenetre_wire::{
    datasets::{ConvertedPoints, MetricInfo},
    definitions::MetricDefinitions,
};

use super::{
    bin::{print_deletion, print_references},
    definitions,
};
use crate::{
    args::{DefineArgs, MetricsArgs, MetricsCommand},
    client::Client,
    confirm::confirm,
    failure::{DONE, FAILED, Failure, SOME_REJECTED, WRONG},
    output::{
        list::{Column, write},
        words::{count_of, day, grouped, minute, utc},
    },
};

/// Lists the metrics, or does something with them.
pub fn run(args: MetricsArgs) -> Result<ExitCode, Failure> {
    let client = Client::of(&args.target.service)?;
    let dataset = args.target.dataset.as_str();
    match args.command {
        None => write(&client.metrics(dataset)?, &columns(), args.output)?,
        Some(MetricsCommand::Show { name }) => show(&client, dataset, &name)?,
        Some(MetricsCommand::Export) => client.definitions(dataset, &mut io::stdout().lock())?,
        Some(MetricsCommand::Apply { file, yes, dry_run }) => return apply(&client, dataset, &file, yes, dry_run),
        Some(MetricsCommand::Rename { old, new }) => {
            let renamed = client.rename_metric(dataset, &old, new.clone())?;
            outln!("renamed {old} to {new}; queries and pushes may still use the old name");
            print_references(&renamed.references);
        }
        Some(MetricsCommand::Pause { name, drop }) => {
            let when_paused = if drop { WhenPaused::Drop } else { WhenPaused::Refuse };
            change(&client, dataset, &name, |definition| (definition.status, definition.when_paused) = (Status::Paused, when_paused))?;
            outln!("{name} is paused: new points are {}", if drop { "ignored" } else { "rejected" });
        }
        Some(MetricsCommand::Resume { name }) => {
            change(&client, dataset, &name, |definition| definition.status = Status::Active)?;
            outln!("{name} accepts points again");
        }
        Some(MetricsCommand::Retire { name }) => {
            change(&client, dataset, &name, |definition| definition.status = Status::Retired)?;
            outln!("{name} is retired: its history stays, new points are rejected");
        }
        Some(MetricsCommand::Review { names }) => review(&client, dataset, &names)?,
        Some(MetricsCommand::Delete { name, yes, dry_run }) => {
            print_deletion(&client.delete_metric(dataset, &name, true)?);
            if !dry_run && confirm(yes, &format!("Delete {name} with all its points?"), &name)? {
                let deletion = client.delete_metric(dataset, &name, false)?;
                let until = utc(deletion.recoverable_until.as_ref());
                outln!("{name} is in the bin until {until} (UTC): `fenetre bin restore {}` restores it", deletion.id.unwrap_or_default());
            }
        }
        Some(MetricsCommand::Define(args)) => define(&client, dataset, *args)?,
    }
    Ok(ExitCode::from(DONE))
}

fn find(client: &Client, dataset: &str, name: &str) -> Result<Option<MetricInfo>, Failure> {
    Ok(client.metrics(dataset)?.into_iter().find(|metric| metric.name == name))
}

fn define(client: &Client, dataset: &str, args: DefineArgs) -> Result<(), Failure> {
    let DefineArgs { name, kind, unit, shape, description, temporality, interval, stale_after, labels, .. } = args;
    let DefineArgs { max_series, dead_band, line_tolerance, max_silence, no_thinning, .. } = args;
    let span = |text: Option<String>| text.map(|text| Span::parse(&text)).transpose().map_err(|error| Failure::new(WRONG, error.to_string()));
    let mut definition = find(client, dataset, &name)?.map(|metric| metric.definition).unwrap_or_default();
    // The command line admits only names that there are.
    definition.kind = kind.as_deref().and_then(Kind::from_name).unwrap_or(definition.kind);
    definition.shape = shape.as_deref().and_then(Shape::from_name).unwrap_or(definition.shape);
    definition.unit = unit.filter(|unit| !unit.is_empty()).or(definition.unit);
    definition.description = description.unwrap_or(definition.description);
    definition.temporality = match temporality.as_deref() {
        Some("delta") => Some(Temporality::Delta),
        Some(_) => Some(Temporality::Cumulative),
        None => definition.temporality,
    };
    definition.interval = span(interval)?.or(definition.interval);
    definition.stale_after = span(stale_after)?.or(definition.stale_after);
    definition.max_series = max_series.or(definition.max_series);
    if !labels.is_empty() {
        definition.labels = labels;
    }
    let max_silence = span(max_silence)?;
    if dead_band.is_some() || line_tolerance.is_some() {
        definition.thinning = Some(Thinning { dead_band, line_tolerance, max_silence });
    } else if no_thinning {
        definition.thinning = None;
    }
    definition.unreviewed = false;
    let how = if args.relabel { "?relabel=true" } else { "" };
    if args.convert {
        let before = client.put_metric(dataset, &name, &definition, "?convert=true&dry_run=true")?;
        let Some(ConvertedPoints { points, unfit, examples }) = before.converted else { return Ok(()) };
        outln!("{} of {name} would be converted", count_of(points - unfit, "point", "points"));
        if unfit > 0 {
            let words: Vec<String> = examples.iter().map(|word| format!("`{word}`")).collect();
            outln!("{} cannot be converted, such as {}: they stay only in the bin", count_of(unfit, "point", "points"), words.join(", "));
        }
        if args.dry_run || !confirm(args.yes, &format!("Convert {name}? The old metric is moved to the bin."), &name)? {
            return Ok(());
        }
        let converted = client.put_metric(dataset, &name, &definition, "?convert=true")?.converted.unwrap_or_default();
        outln!("{} of {name} converted; `fenetre bin` lists the old metric", count_of(converted.points - converted.unfit, "point", "points"));
        return Ok(());
    }
    let defined = client.put_metric(dataset, &name, &definition, how)?;
    if let Some(note) = defined.note {
        noteln!("note: {note}");
    }
    outln!("{name} {}", if defined.created { "created" } else { "changed" });
    Ok(())
}

fn change(client: &Client, dataset: &str, name: &str, change: impl FnOnce(&mut MetricDefinition)) -> Result<(), Failure> {
    let known = find(client, dataset, name)?
        .ok_or_else(|| Failure::new(FAILED, format!("the dataset `{dataset}` has no metric `{name}`: `fenetre metrics` lists them")))?;
    let mut definition = known.definition;
    change(&mut definition);
    client.put_metric(dataset, name, &definition, "").map(|_| ())
}

fn review(client: &Client, dataset: &str, names: &[String]) -> Result<(), Failure> {
    let unreviewed: Vec<MetricInfo> = client
        .metrics(dataset)?
        .into_iter()
        .filter(|metric| metric.definition.unreviewed && (names.is_empty() || names.contains(&metric.name)))
        .collect();
    let metrics = unreviewed.into_iter().map(|metric| (metric.name, MetricDefinition { unreviewed: false, ..metric.definition })).collect();
    let differences = client.put_metrics(dataset, &MetricDefinitions { metrics, dry_run: false })?;
    outln!("{} reviewed", count_of(differences.changed.len() as u64, "metric", "metrics"));
    Ok(())
}

fn apply(client: &Client, dataset: &str, file: &Path, yes: bool, dry_run: bool) -> Result<ExitCode, Failure> {
    let shown = file.display().to_string();
    let mut table = Vec::new();
    let read =
        if file == Path::new("-") { io::stdin().read_to_end(&mut table) } else { File::open(file).and_then(|mut file| file.read_to_end(&mut table)) };
    read.map_err(|error| Failure::new(FAILED, format!("cannot read {shown}: {error}")))?;
    let differences = client.put_definitions(dataset, &table, true).map_err(|failure| failure.of(&shown))?;
    let differs = definitions::show(dataset, &differences);
    if !differs {
        return Ok(ExitCode::from(DONE));
    }
    if dry_run {
        return Ok(ExitCode::from(SOME_REJECTED));
    }
    if confirm(yes, "Apply all of this?", "yes")? {
        client.put_definitions(dataset, &table, false)?;
        outln!("applied");
    }
    Ok(ExitCode::from(DONE))
}

fn show(client: &Client, dataset: &str, name: &str) -> Result<(), Failure> {
    let metric = find(client, dataset, name)?
        .ok_or_else(|| Failure::new(FAILED, format!("the dataset `{dataset}` has no metric `{name}`: `fenetre metrics` lists them")))?;
    let text = serde_json::to_value(&metric)?;
    let plain = |value: &serde_json::Value| match value {
        serde_json::Value::String(text) => text.clone(),
        serde_json::Value::Array(items) => {
            items.iter().map(|item| item.as_str().map_or_else(|| item.to_string(), str::to_owned)).collect::<Vec<_>>().join(", ")
        }
        serde_json::Value::Null => String::new(),
        other => other.to_string(),
    };
    for (field, value) in text.as_object().into_iter().flatten().filter(|(field, _)| !["name", "thinned"].contains(&field.as_str())) {
        let text = plain(value);
        if !text.is_empty() && text != "0" {
            outln!("{:<14} {text}", field.replace('_', " "));
        }
    }
    if let Some(thinned) = metric.thinned {
        let share = thinned.left_out as f64 * 100.0 / thinned.came.max(1) as f64;
        outln!("{:<14} {} of {} points dropped ({share:.0} %)", "thinned", grouped(thinned.left_out), grouped(thinned.came));
    }
    print_references(&client.references(dataset, name)?);
    Ok(())
}

fn columns() -> Vec<Column<MetricInfo>> {
    fn status(metric: &MetricInfo) -> String {
        match (metric.definition.status, metric.definition.unreviewed) {
            (Status::Active, true) => "unreviewed".to_owned(),
            (status, _) => status.as_str().to_owned(),
        }
    }
    /// Empty for active metrics: most are.
    fn shown_status(metric: &MetricInfo) -> String {
        Some(status(metric)).filter(|status| status != Status::Active.as_str()).unwrap_or_default()
    }
    vec![
        Column { name: "metric", right: false, text: |m| m.name.clone(), plain: |m| m.name.clone() },
        Column { name: "kind", right: false, text: |m| m.definition.kind.to_string(), plain: |m| m.definition.kind.to_string() },
        Column {
            name: "unit",
            right: false,
            text: |m| m.definition.unit.as_deref().map_or_else(|| "–".into(), units::text),
            plain: |m| m.definition.unit.clone().unwrap_or_default(),
        },
        Column { name: "status", right: false, text: shown_status, plain: status },
        Column { name: "tags", right: false, text: |m| m.tags.join(", "), plain: |m| m.tags.join(" ") },
        Column { name: "series", right: true, text: |m| grouped(m.series), plain: |m| m.series.to_string() },
        Column { name: "points", right: true, text: |m| grouped(m.stored.points), plain: |m| m.stored.points.to_string() },
        Column {
            name: "first (UTC)",
            right: false,
            text: |m| m.stored.first.as_deref().map_or("–", day).to_owned(),
            plain: |m| m.stored.first.clone().unwrap_or_default(),
        },
        Column { name: "last (UTC)", right: false, text: |m| minute(m.stored.last.as_ref()), plain: |m| m.stored.last.clone().unwrap_or_default() },
    ]
}
