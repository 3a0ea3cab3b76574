//! `fenetre tags`

use fenetre_service::api::datasets::TagInfo;

use crate::{
    args::CatalogueArgs,
    client::Client,
    failure::Failure,
    output::{
        list::{Column, write},
        words::grouped,
    },
};

/// Values that are listed to people; programs get all.
const SHOWN_VALUES: usize = 12;

/// Lists the tags with their values.
pub fn run(args: &CatalogueArgs) -> Result<(), Failure> {
    let tags = Client::of(&args.target)?.tags(&args.target.dataset, args.metric.as_deref())?;
    write(&tags, &columns(), args.output)
}

fn columns() -> Vec<Column<TagInfo>> {
    vec![
        Column { name: "tag", right: false, told: |t| t.key.clone(), plain: |t| t.key.clone() },
        Column { name: "distinct", right: true, told: |t| grouped(t.values.len() as u64), plain: |t| t.values.len().to_string() },
        Column { name: "values (series)", right: false, told: told_values, plain: plain_values },
    ]
}

fn told_values(tag: &TagInfo) -> String {
    let shown = tag.values.iter().take(SHOWN_VALUES).map(|value| format!("{} ({})", value.value, grouped(value.series)));
    let shown = shown.collect::<Vec<_>>().join(", ");
    match tag.values.len().saturating_sub(SHOWN_VALUES) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}

fn plain_values(tag: &TagInfo) -> String {
    tag.values.iter().map(|value| value.value.as_str()).collect::<Vec<_>>().join(" ")
}
