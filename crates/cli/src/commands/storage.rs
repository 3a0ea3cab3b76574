//! `fenetre storage`: sizes, the largest metrics, verification.

use std::process::ExitCode;

use fenetre_wire::storage::{DatasetStorage, FileOrder, LevelStorage, MetricStorage, StorageInfo, VerifiedFile};
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;

use super::retention::print_forecast;
use crate::{
    args::{ListOutput, StorageArgs, StorageCommand},
    client::{Client, only},
    failure::{DONE, FAILED, Failure},
    output::{
        list::{Column, write},
        words::{bytes, count_of, day, grouped, minute},
    },
};

/// The file of the catalogue, below the store's directory.
const CATALOGUE: &str = "catalogue.db";

/// One part of the store.
#[derive(Serialize)]
struct Part {
    part: String,
    from: String,
    to: String,
    bytes: u64,
    points: Option<u64>,
    blocks: Option<u64>,
}

/// Shows storage use, or works on the store.
pub fn run(args: &StorageArgs) -> Result<ExitCode, Failure> {
    let client = Client::of(&args.service)?;
    match &args.command {
        None => show(&client, args)?,
        Some(StorageCommand::Top { limit }) => top(&client, args, *limit)?,
        Some(StorageCommand::Verify) => return verify(&client, args),
        Some(StorageCommand::Compact) => compact(&client, args)?,
        // It needs no service, and is run elsewhere.
        #[cfg(feature = "service")]
        Some(StorageCommand::Repair { .. }) => {}
        Some(StorageCommand::AcceptLoss { file }) => {
            client.accept_loss(&FileOrder { path: file.clone() })?;
            outln!("accepted the loss of {file}");
        }
    }
    Ok(ExitCode::from(DONE))
}

fn look(client: &Client, args: &StorageArgs) -> Result<StorageInfo, Failure> {
    let mut info = client.storage()?;
    info.datasets = only(info.datasets, args.dataset.as_deref(), |dataset| &dataset.name)?;
    Ok(info)
}

fn show(client: &Client, args: &StorageArgs) -> Result<(), Failure> {
    let info = look(client, args)?;
    if args.output == ListOutput::Json {
        outln!("{}", serde_json::to_string_pretty(&info)?);
        return Ok(());
    }
    write(&parts(&info), &columns(), args.output)?;
    if args.output == ListOutput::Table {
        print_summary(&info);
    }
    Ok(())
}

/// Below the table: the total, the volume, growth and forecast.
fn print_summary(info: &StorageInfo) {
    let points: u64 = info.datasets.iter().map(|dataset| dataset.points).sum();
    let packed: u64 = info.datasets.iter().map(|dataset| dataset.bytes).sum();
    let each = if points > 0 { format!(", {:.2} bytes per packed point", packed as f64 / points as f64) } else { String::new() };
    outln!("\ntotal   {} in {}{each}", bytes(info.bytes), info.path);
    if let Some(volume) = &info.volume {
        outln!("volume  {} free of {}, reserve {}", bytes(volume.free), bytes(volume.total), bytes(volume.reserve));
    }
    for dataset in info.datasets.iter().filter(|dataset| dataset.bytes > 0) {
        let [day, week, month] = [dataset.written_1d, dataset.written_7d, dataset.written_30d].map(|written| bytes(written.bytes_a_day as u64));
        outln!("\n{}\n  packed       {day} today; per day: {week} over 7 days, {month} over 30 days", dataset.name);
        if let Some(place) = info.places.iter().find(|place| place.name == dataset.name) {
            outln!("  limits       keep_for {}; keep_under {}", place.keep_for.text, place.keep_under.text);
            if let Some(outlook) = place.outlook.as_ref().filter(|outlook| outlook.bytes_a_day > 0.0) {
                print_forecast(outlook);
            }
        }
    }
    info.warnings.iter().for_each(|warning| outln!("\n! {warning}"));
}

fn top(client: &Client, args: &StorageArgs, limit: usize) -> Result<(), Failure> {
    let mut sizes = client.metric_sizes()?;
    if let Some(dataset) = &args.dataset {
        sizes.retain(|size| size.dataset == *dataset);
    }
    sizes.truncate(limit);
    write(&sizes, &top_columns(), args.output)
}

/// Works on files one after the other: each is done when its line stands there, and Ctrl-C stops between two.
fn each_file(paths: &[&str], mut work: impl FnMut(FileOrder) -> Result<(), Failure>) -> Result<(), Failure> {
    let style = ProgressStyle::with_template("{pos}/{len} files {bar:30} {msg}").unwrap_or_else(|_| ProgressStyle::default_bar());
    let progress = ProgressBar::new(paths.len() as u64).with_style(style);
    for path in paths {
        progress.set_message(path.rsplit('/').next().unwrap_or_default().to_owned());
        work(FileOrder { path: (*path).to_owned() })?;
        progress.inc(1);
    }
    progress.finish_and_clear();
    Ok(())
}

fn partitions(info: &StorageInfo) -> Vec<&str> {
    info.datasets.iter().flat_map(|dataset| &dataset.partitions).map(|partition| partition.path.as_str()).collect()
}

fn verify(client: &Client, args: &StorageArgs) -> Result<ExitCode, Failure> {
    let info = look(client, args)?;
    let levels: Vec<&str> = info.datasets.iter().flat_map(|dataset| &dataset.levels).flat_map(|level| &level.files).map(String::as_str).collect();
    let (mut blocks, mut points, mut windows, mut compared, mut faulty) = (0, 0, 0, 0, 0);
    let print_file = |found: &VerifiedFile| {
        found.faults.iter().for_each(|fault| outln!("{fault}"));
        let hidden = found.faulty.saturating_sub(found.faults.len() as u64);
        if hidden > 0 {
            outln!("… and {} more in this file", grouped(hidden));
        }
    };
    each_file(&[CATALOGUE], |order| {
        let found = client.verify(&order)?;
        faulty += found.faulty;
        print_file(&found);
        Ok(())
    })?;
    each_file(&partitions(&info), |order| {
        let found = client.verify(&order)?;
        (blocks, points, faulty) = (blocks + found.blocks, points + found.points, faulty + found.faulty);
        print_file(&found);
        Ok(())
    })?;
    each_file(&levels, |order| {
        let found = client.verify(&order)?;
        (windows, compared, faulty) = (windows + found.windows, compared + found.points, faulty + found.faulty);
        print_file(&found);
        Ok(())
    })?;
    // A missing file cannot be verified.
    for fault in info.faults.iter().filter(|fault| !partitions(&info).contains(&fault.path.as_str())) {
        outln!("{}", fault.fault);
        faulty += 1;
    }
    let mut checked = format!("Checked the catalogue, {} of {}", count_of(blocks, "block", "blocks"), count_of(points, "point", "points"));
    if !levels.is_empty() {
        checked += &format!(", and {} of rollups against {}", count_of(windows, "window", "windows"), count_of(compared, "point", "points"));
    }
    if faulty > 0 {
        let faults = count_of(faulty, "error", "errors");
        outln!("{checked}: {faults}. Nothing was changed. Restore the files above from a backup, or see what `fenetre storage repair` can save");
        return Ok(ExitCode::from(FAILED));
    }
    outln!("{checked}: no errors");
    Ok(ExitCode::from(DONE))
}

fn compact(client: &Client, args: &StorageArgs) -> Result<(), Failure> {
    let earlier = look(client, args)?;
    for dataset in &earlier.datasets {
        let tidied = client.tidy(&dataset.name)?;
        if tidied.before != tidied.after {
            let before = count_of(tidied.before, "partition", "partitions");
            outln!("{}: {before} replaced by {}, with spans that suit the number of points", dataset.name, grouped(tidied.after));
        }
    }
    // Together with what that changed.
    let info = look(client, args)?;
    let files = |info: &StorageInfo| info.datasets.iter().flat_map(|dataset| &dataset.partitions).map(|partition| partition.bytes).sum::<u64>();
    let (mut before, mut after) = (0, 0);
    each_file(&partitions(&info), |order| {
        let done = client.compact(&order)?;
        (before, after) = (before + done.before, after + done.after);
        Ok(())
    })?;
    outln!("{} before, {} now", bytes(before + files(&earlier).saturating_sub(files(&info))), bytes(after));
    Ok(())
}

fn parts(info: &StorageInfo) -> Vec<Part> {
    let plain = |name: String, bytes, points| Part { part: name, from: String::new(), to: String::new(), bytes, points, blocks: None };
    let mut parts = vec![
        plain("catalogue".to_owned(), info.catalogue_bytes, None),
        plain("journal, not packed yet".to_owned(), info.journal_bytes, Some(info.waiting_points)),
        plain("bin".to_owned(), info.bin_bytes, None),
    ];
    for DatasetStorage { name, partitions, rollup_bytes, levels, .. } in &info.datasets {
        parts.extend(partitions.iter().map(|partition| Part {
            part: format!("{name} / {}", partition.path.rsplit('/').next().unwrap_or_default()),
            from: day(&partition.start).to_owned(),
            to: day(&partition.last).to_owned(),
            bytes: partition.bytes,
            points: Some(partition.points),
            blocks: Some(partition.blocks),
        }));
        let by_level = |level: &LevelStorage| plain(format!("{name} / {} rollup of {}", level.width, level.policy), level.bytes, None);
        parts.extend(levels.iter().map(by_level));
        let beside = rollup_bytes.saturating_sub(levels.iter().map(|level| level.bytes).sum());
        if beside > 0 {
            parts.push(plain(format!("{name} / rollup progress"), beside, None));
        }
    }
    parts
}

fn columns() -> Vec<Column<Part>> {
    vec![
        Column { name: "part", right: false, text: |p| p.part.clone(), plain: |p| p.part.clone() },
        Column { name: "from", right: false, text: |p| p.from.clone(), plain: |p| p.from.clone() },
        Column { name: "to", right: false, text: |p| p.to.clone(), plain: |p| p.to.clone() },
        Column {
            name: "points",
            right: true,
            text: |p| p.points.map_or(String::new(), grouped),
            plain: |p| p.points.map_or(String::new(), |n| n.to_string()),
        },
        Column {
            name: "blocks",
            right: true,
            text: |p| p.blocks.map_or(String::new(), grouped),
            plain: |p| p.blocks.map_or(String::new(), |n| n.to_string()),
        },
        Column { name: "on disk", right: true, text: |p| bytes(p.bytes), plain: |p| p.bytes.to_string() },
        Column { name: "B/point", right: true, text: per_point, plain: per_point },
    ]
}

fn per_point(part: &Part) -> String {
    match (part.points, part.blocks) {
        (Some(points), Some(_)) if points > 0 => format!("{:.2}", part.bytes as f64 / points as f64),
        _ => String::new(),
    }
}

fn top_columns() -> Vec<Column<MetricStorage>> {
    fn each(size: &MetricStorage) -> String {
        if size.points > 0 { format!("{:.2}", size.bytes as f64 / size.points as f64) } else { String::new() }
    }
    vec![
        Column {
            name: "metric",
            right: false,
            text: |m| m.metric.as_ref().map_or_else(|| format!("{}, in the bin", m.dataset), |metric| format!("{}::{metric}", m.dataset)),
            plain: |m| m.metric.clone().unwrap_or_default(),
        },
        Column { name: "series", right: true, text: |m| grouped(m.series), plain: |m| m.series.to_string() },
        Column { name: "points", right: true, text: |m| grouped(m.points), plain: |m| m.points.to_string() },
        Column { name: "on disk", right: true, text: |m| bytes(m.bytes), plain: |m| m.bytes.to_string() },
        Column { name: "B/point", right: true, text: each, plain: each },
        Column { name: "oldest (UTC)", right: false, text: |m| minute(m.oldest.as_ref()), plain: |m| m.oldest.clone().unwrap_or_default() },
    ]
}
