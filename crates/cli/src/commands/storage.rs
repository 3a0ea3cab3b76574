//! `fenetre storage`

use fenetre_service::api::storage::{DatasetStorage, StorageInfo};
use serde::Serialize;

use crate::{
    args::{ListOutput, StorageArgs},
    client::{Client, only},
    failure::Failure,
    output::{
        list::{Column, write},
        words::{bytes, grouped},
    },
};

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

/// Shows what the store weighs.
pub fn run(args: &StorageArgs) -> Result<(), Failure> {
    let mut info = Client::new(&args.url)?.storage()?;
    info.datasets = only(info.datasets, args.dataset.as_deref(), |dataset| &dataset.name)?;
    if args.output == ListOutput::Json {
        println!("{}", serde_json::to_string_pretty(&info)?);
        return Ok(());
    }
    let parts = parts(&info);
    write(&parts, &columns(), args.output)?;
    if args.output == ListOutput::Table {
        let points: u64 = info.datasets.iter().map(|dataset| dataset.points).sum();
        let packed: u64 = info.datasets.iter().map(|dataset| dataset.bytes).sum();
        let each = if points > 0 { format!(", {:.2} bytes a packed point", packed as f64 / points as f64) } else { String::new() };
        println!("\n{} in {}{each}", bytes(info.bytes), info.path);
    }
    Ok(())
}

fn parts(info: &StorageInfo) -> Vec<Part> {
    let plain = |name: &str, bytes, points| Part { part: name.to_owned(), from: String::new(), to: String::new(), bytes, points, blocks: None };
    let mut parts =
        vec![plain("catalogue", info.catalogue_bytes, None), plain("journal, waiting to be packed", info.journal_bytes, Some(info.waiting_points))];
    for DatasetStorage { name, partitions, .. } in &info.datasets {
        let day = |time: &str| time.split('T').next().unwrap_or_default().to_owned();
        parts.extend(partitions.iter().map(|partition| Part {
            part: format!("{name} / {}", partition.path.rsplit('/').next().unwrap_or_default()),
            from: day(&partition.start),
            to: day(&partition.last),
            bytes: partition.bytes,
            points: Some(partition.points),
            blocks: Some(partition.blocks),
        }));
    }
    parts
}

fn columns() -> Vec<Column<Part>> {
    vec![
        Column { name: "part", right: false, told: |p| p.part.clone(), plain: |p| p.part.clone() },
        Column { name: "from", right: false, told: |p| p.from.clone(), plain: |p| p.from.clone() },
        Column { name: "to", right: false, told: |p| p.to.clone(), plain: |p| p.to.clone() },
        Column {
            name: "points",
            right: true,
            told: |p| p.points.map_or(String::new(), grouped),
            plain: |p| p.points.map_or(String::new(), |n| n.to_string()),
        },
        Column {
            name: "blocks",
            right: true,
            told: |p| p.blocks.map_or(String::new(), grouped),
            plain: |p| p.blocks.map_or(String::new(), |n| n.to_string()),
        },
        Column { name: "on disk", right: true, told: |p| bytes(p.bytes), plain: |p| p.bytes.to_string() },
        Column { name: "bytes a point", right: true, told: per_point, plain: per_point },
    ]
}

fn per_point(part: &Part) -> String {
    match (part.points, part.blocks) {
        (Some(points), Some(_)) if points > 0 => format!("{:.2}", part.bytes as f64 / points as f64),
        _ => String::new(),
    }
}
