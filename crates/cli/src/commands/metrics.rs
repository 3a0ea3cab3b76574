//! `fenetre metrics`

use fenetre_core::model::{Kind, MetricDefinition, Shape};
use fenetre_service::api::datasets::MetricInfo;

use crate::{
    args::{MetricsArgs, MetricsCommand},
    client::Client,
    failure::Failure,
    output::{
        list::{Column, write},
        words::{grouped, utc},
    },
};

/// Lists the metrics, or defines one.
pub fn run(args: MetricsArgs) -> Result<(), Failure> {
    match args.command {
        None => write(&Client::of(&args.target)?.metrics(&args.target.dataset)?, &columns(), args.output),
        Some(MetricsCommand::Define { name, kind, unit, shape, description }) => {
            let client = Client::of(&args.target)?;
            let known = client.metrics(&args.target.dataset)?.into_iter().find(|metric| metric.name == name).map(definition_of);
            let mut definition = known.unwrap_or_default();
            // The command line admits only names that there are.
            definition.kind = kind.as_deref().and_then(Kind::from_name).unwrap_or(definition.kind);
            definition.shape = shape.as_deref().and_then(Shape::from_name).unwrap_or(definition.shape);
            definition.unit = unit.or(definition.unit);
            definition.description = description.unwrap_or(definition.description);
            let defined = client.put_metric(&args.target.dataset, &name, &definition)?;
            println!("{name} {}", if defined.created { "made" } else { "changed" });
            Ok(())
        }
    }
}

fn definition_of(metric: MetricInfo) -> MetricDefinition {
    let MetricInfo { kind, unit, shape, description, .. } = metric;
    MetricDefinition { kind, unit, shape, description }
}

fn columns() -> Vec<Column<MetricInfo>> {
    vec![
        Column { name: "metric", right: false, told: |m| m.name.clone(), plain: |m| m.name.clone() },
        Column { name: "kind", right: false, told: |m| m.kind.to_string(), plain: |m| m.kind.to_string() },
        Column {
            name: "unit", right: false, told: |m| m.unit.clone().unwrap_or_else(|| "–".into()), plain: |m| m.unit.clone().unwrap_or_default()
        },
        Column { name: "tags", right: false, told: |m| m.tags.join(" "), plain: |m| m.tags.join(" ") },
        Column { name: "series", right: true, told: |m| grouped(m.series), plain: |m| m.series.to_string() },
        Column { name: "points", right: true, told: |m| grouped(m.held.points), plain: |m| m.held.points.to_string() },
        Column { name: "first (UTC)", right: false, told: |m| utc(m.held.first.as_ref()), plain: |m| m.held.first.clone().unwrap_or_default() },
        Column { name: "last (UTC)", right: false, told: |m| utc(m.held.last.as_ref()), plain: |m| m.held.last.clone().unwrap_or_default() },
    ]
}
