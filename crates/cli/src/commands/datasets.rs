//! `fenetre datasets`

use fenetre_wire::datasets::DatasetInfo;

use super::bin::print_references;
use crate::{
    args::{DatasetsArgs, DatasetsCommand},
    client::{Client, only},
    failure::Failure,
    output::{
        list::{Column, write},
        words::{day, grouped},
    },
};

/// Lists the datasets, or defines one.
pub fn run(args: DatasetsArgs) -> Result<(), Failure> {
    let client = Client::of(&args.service)?;
    match args.command {
        None => write(&only(client.datasets()?, args.dataset.as_deref(), |dataset| &dataset.name)?, &columns(), args.output),
        Some(DatasetsCommand::Define { name, zone, description, closed, open, max_series, max_series_per_metric }) => {
            let known = client.datasets()?.into_iter().find(|dataset| dataset.name == name);
            let mut definition = known.map(|dataset| dataset.definition).unwrap_or_default();
            definition.zone = zone.unwrap_or(definition.zone);
            definition.description = description.unwrap_or(definition.description);
            definition.closed = (definition.closed || closed) && !open;
            definition.max_series = max_series.or(definition.max_series);
            definition.max_series_per_metric = max_series_per_metric.or(definition.max_series_per_metric);
            let defined = client.put_dataset(&name, &definition)?;
            outln!("{name} {}", if defined.created { "created" } else { "changed" });
            Ok(())
        }
        Some(DatasetsCommand::Rename { old, new }) => {
            let renamed = client.rename_dataset(&old, new.clone())?;
            outln!("renamed {old} to {new}; queries and pushes may still use the old name");
            print_references(&renamed.references);
            Ok(())
        }
    }
}

fn columns() -> Vec<Column<DatasetInfo>> {
    vec![
        Column { name: "dataset", right: false, text: |d| d.name.clone(), plain: |d| d.name.clone() },
        Column { name: "zone", right: false, text: |d| d.definition.zone.clone(), plain: |d| d.definition.zone.clone() },
        Column { name: "metrics", right: true, text: |d| grouped(d.metrics), plain: |d| d.metrics.to_string() },
        Column { name: "series", right: true, text: |d| grouped(d.series), plain: |d| d.series.to_string() },
        Column { name: "points", right: true, text: |d| grouped(d.stored.points), plain: |d| d.stored.points.to_string() },
        Column {
            name: "first",
            right: false,
            text: |d| d.stored.first.as_deref().map_or("–", day).to_owned(),
            plain: |d| d.stored.first.clone().unwrap_or_default(),
        },
        Column {
            name: "last",
            right: false,
            text: |d| d.stored.last.as_deref().map_or("–", day).to_owned(),
            plain: |d| d.stored.last.clone().unwrap_or_default(),
        },
        Column { name: "description", right: false, text: |d| d.definition.description.clone(), plain: |d| d.definition.description.clone() },
    ]
}
