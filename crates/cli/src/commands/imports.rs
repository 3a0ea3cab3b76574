//! `fenetre imports`

use std::{fmt::Write as _, io};

use fenetre_wire::imports::{ImportRecord, ImportStage};

use crate::{
    args::{ImportsArgs, ImportsCommand},
    client::Client,
    failure::Failure,
    output::{
        list::{Column, write},
        words::{bytes, count_of, grouped, minute, utc},
    },
};

/// Lists the imports, or does something with one.
pub fn run(args: ImportsArgs) -> Result<(), Failure> {
    let client = Client::of(&args.service)?;
    match args.command {
        None => write(&client.imports()?, &columns(), args.output),
        Some(ImportsCommand::Show { id }) => {
            let record = client.import(&id)?;
            let mapping = record.order.mapping.as_ref().map(|mapping| mapping.to_toml());
            outln!(
                "{} into {}, {}, sent {}, {}",
                record.file,
                record.dataset,
                bytes(record.bytes),
                utc(Some(&record.uploaded)),
                record.stage.as_str()
            );
            out!("{}", summary(&record));
            for (cause, count) in &record.causes {
                outln!("  {}: {}", cause.describe(), grouped(*count));
            }
            record.notes.iter().for_each(|note| outln!("note: {note}"));
            if let Some(failure) = record.failure {
                outln!("failed: {failure}");
            }
            if let Some(mapping) = mapping {
                outln!("\nmapping:\n{}", mapping.trim_end());
            }
            Ok(())
        }
        Some(ImportsCommand::Rejects { id }) => client.rejects(&id, &mut io::stdout().lock()),
        Some(ImportsCommand::Stop { id }) => {
            client.stop_import(&id)?;
            outln!("{id} stops after its current part; `fenetre import --continue {id}` continues it");
            Ok(())
        }
        Some(ImportsCommand::Forget { id }) => {
            client.forget_import(&id)?;
            outln!("{id} is removed from the list; its points stay");
            Ok(())
        }
    }
}

/// `3 points`
pub fn points(count: u64) -> String {
    count_of(count, "point", "points")
}

/// The result in a few lines.
pub fn summary(record: &ImportRecord) -> String {
    let mut out = String::new();
    let stored = if record.order.dry_run { "would be stored" } else { "stored" };
    let rows = count_of(record.rows, "row", "rows");
    let _ = writeln!(out, "{} from {rows} {stored} in {}, {} rejected", points(record.accepted), record.dataset, grouped(record.rejected));
    let mut line = |count: u64, text: String| {
        if count > 0 {
            let _ = writeln!(out, "{text}");
        }
    };
    let replaced = record.replaced.unwrap_or(0);
    line(replaced, format!("{} replaced earlier ones with the same series and time", points(replaced)));
    line(record.dropped, format!("{} of paused metrics ignored", points(record.dropped)));
    line(record.empty_cells, format!("{} gave no point", count_of(record.empty_cells, "empty cell", "empty cells")));
    line(record.new_metrics.len() as u64, format!("new metrics: {}", some_of(&record.new_metrics)));
    line(record.new_tags.len() as u64, format!("new tags: {}", some_of(&record.new_tags)));
    line(record.new_series, format!("new series: {}", grouped(record.new_series)));
    if let (Some(first), Some(last), 1..) = (&record.first, &record.last, record.accepted) {
        let _ = writeln!(out, "from {} to {} (UTC)", utc(Some(first)), utc(Some(last)));
    }
    out
}

fn some_of(names: &[String]) -> String {
    const SHOWN: usize = 20;
    let shown = names.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
    match names.len().saturating_sub(SHOWN) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}

fn columns() -> Vec<Column<ImportRecord>> {
    vec![
        Column { name: "id", right: false, text: |r| r.id.clone(), plain: |r| r.id.clone() },
        Column { name: "file", right: false, text: |r| r.file.clone(), plain: |r| r.file.clone() },
        Column { name: "dataset", right: false, text: |r| r.dataset.clone(), plain: |r| r.dataset.clone() },
        Column { name: "sent (UTC)", right: false, text: |r| minute(Some(&r.uploaded)), plain: |r| r.uploaded.clone() },
        Column { name: "stage", right: false, text: stage, plain: |r| r.stage.as_str().to_owned() },
        Column { name: "rows", right: true, text: |r| grouped(r.rows), plain: |r| r.rows.to_string() },
        Column { name: "points", right: true, text: |r| grouped(r.accepted), plain: |r| r.accepted.to_string() },
        Column { name: "rejected", right: true, text: |r| grouped(r.rejected), plain: |r| r.rejected.to_string() },
    ]
}

fn stage(record: &ImportRecord) -> String {
    match record.stage {
        ImportStage::Running => format!("running, {} %", record.read_bytes * 100 / record.bytes.max(1)),
        other => other.as_str().to_owned(),
    }
}
