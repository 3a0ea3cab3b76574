//! `fenetre tags`

use fenetre_wire::datasets::TagInfo;

use super::bin::print_references;
use crate::{
    args::{TagsArgs, TagsCommand},
    client::Client,
    failure::Failure,
    output::{
        list::{Column, write},
        words::grouped,
    },
};

/// Values that are listed to people; programs get all.
const SHOWN_VALUES: usize = 12;

/// Lists the tags with their values, or defines one.
pub fn run(args: TagsArgs) -> Result<(), Failure> {
    let list = args.list;
    let (client, dataset) = (Client::of(&list.target.service)?, list.target.dataset.as_str());
    match args.command {
        None => write(&client.tags(dataset, list.metric.as_deref())?, &columns(), list.output),
        Some(TagsCommand::Rename { old, new }) => {
            let renamed = client.rename_tag(dataset, &old, new.clone())?;
            outln!("renamed the tag {old} to {new} in all series; queries and pushes may still use the old key");
            print_references(&renamed.references);
            Ok(())
        }
        Some(TagsCommand::Define { key, description, required, optional, allowed, pattern, max_values }) => {
            let known = client.tags(dataset, None)?.into_iter().find(|tag| tag.key == key).and_then(|tag| tag.definition);
            let mut definition = known.unwrap_or_default();
            definition.description = description.unwrap_or(definition.description);
            definition.required = (definition.required || required) && !optional;
            definition.pattern = pattern.or(definition.pattern);
            definition.max_values = max_values.or(definition.max_values);
            if !allowed.is_empty() {
                definition.allowed = allowed;
            }
            let defined = client.put_tag(dataset, &key, &definition)?;
            outln!("{key} {}", if defined.created { "defined" } else { "changed" });
            Ok(())
        }
    }
}

fn columns() -> Vec<Column<TagInfo>> {
    vec![
        Column { name: "tag", right: false, text: |t| t.key.clone(), plain: |t| t.key.clone() },
        Column { name: "rule", right: false, text: rule, plain: rule },
        Column { name: "distinct", right: true, text: |t| grouped(t.values.len() as u64), plain: |t| t.values.len().to_string() },
        Column { name: "values (series)", right: false, text: shown_values, plain: plain_values },
    ]
}

fn rule(tag: &TagInfo) -> String {
    let Some(definition) = &tag.definition else { return String::new() };
    let mut rules = Vec::new();
    if definition.required {
        rules.push("required".to_owned());
    }
    if !definition.allowed.is_empty() {
        rules.push(format!("one of {}", definition.allowed.len()));
    }
    rules.extend(definition.pattern.as_ref().map(|pattern| format!("like {pattern}")));
    rules.extend(definition.max_values.map(|most| format!("at most {most}")));
    rules.join(", ")
}

fn shown_values(tag: &TagInfo) -> String {
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
