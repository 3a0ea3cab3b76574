//! `fenetre changes`: the record of changes.

use fenetre_wire::access::ChangeInfo;
use serde_json::Value;

use crate::{
    args::ChangesArgs,
    client::Client,
    failure::Failure,
    output::list::{Column, write},
    output::words::utc,
};

/// Changes of one call.
const PAGE: usize = 1_000;

/// Lists changes, the latest first.
pub fn run(args: &ChangesArgs) -> Result<(), Failure> {
    let client = Client::of(&args.service)?;
    let (mut found, mut before) = (Vec::new(), None);
    while found.len() < args.limit {
        let wanted = (args.limit - found.len()).min(PAGE).to_string();
        let number = before.map(|number: i64| number.to_string());
        let narrowed =
            [("who", args.who.as_deref()), ("what", args.what.as_deref()), ("since", args.since.as_deref()), ("before", number.as_deref())];
        let mut parameters: Vec<(&str, &str)> = narrowed.into_iter().filter_map(|(name, value)| Some((name, value?))).collect();
        parameters.push(("limit", &wanted));
        let page = client.changes(&parameters)?;
        found.extend(page.items);
        before = page.next;
        if before.is_none() {
            break;
        }
    }
    write(&found, &columns(), args.output)?;
    if before.is_some() {
        noteln!("there are more: ask with a larger --limit, or a later --since");
    }
    Ok(())
}

fn columns() -> Vec<Column<ChangeInfo>> {
    let plain = |name, plain| Column { name, right: false, text: plain, plain };
    vec![
        Column { name: "time", right: false, text: |change| utc(Some(&change.time)), plain: |change| change.time.clone() },
        plain("who", |change: &ChangeInfo| change.who.clone()),
        plain("from", |change: &ChangeInfo| change.address.clone().unwrap_or_default()),
        plain("what", |change: &ChangeInfo| format!("{} {}", change.subject, change.act)),
        plain("object", object),
        Column { name: "change", right: false, text: difference, plain: |change| difference(change) },
    ]
}

/// The name of what was changed, within its dataset.
fn object(change: &ChangeInfo) -> String {
    match &change.dataset {
        Some(dataset) if *dataset != change.object && !change.object.starts_with(&format!("{dataset}::")) => format!("{dataset}::{}", change.object),
        _ => change.object.clone(),
    }
}

/// What is different, in one line: of objects only the members that differ.
fn difference(change: &ChangeInfo) -> String {
    let text = |value: Option<&Value>| match value {
        None | Some(Value::Null) => "–".to_owned(),
        Some(Value::String(text)) => text.clone(),
        Some(Value::Array(items)) if items.iter().all(Value::is_string) => items.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", "),
        Some(other) => other.to_string(),
    };
    let (before, after) = (change.before.as_ref(), change.after.as_ref());
    match (before, after) {
        (None, None) => String::new(),
        (None | Some(Value::Object(_)), Some(Value::Object(_))) | (Some(Value::Object(_)), None) => {
            let member = |value: Option<&Value>, name: &str| value.and_then(|value| value.get(name)).cloned();
            let names = [before, after].into_iter().flatten().filter_map(Value::as_object).flat_map(|members| members.keys());
            let names: std::collections::BTreeSet<&String> = names.collect();
            let changed = names.into_iter().filter_map(|name| {
                let (old, new) = (member(before, name), member(after, name));
                let is_nothing = |value: &Option<Value>| value.as_ref().is_none_or(Value::is_null);
                match (is_nothing(&old), is_nothing(&new)) {
                    _ if old == new => None,
                    (true, true) => None,
                    (true, false) => Some(format!("{name}: {}", text(new.as_ref()))),
                    (false, true) if after.is_none() => Some(format!("{name} was {}", text(old.as_ref()))),
                    _ => Some(format!("{name}: {} → {}", text(old.as_ref()), text(new.as_ref()))),
                }
            });
            changed.collect::<Vec<_>>().join("; ")
        }
        (None, after) => text(after),
        (before, None) => format!("was {}", text(before)),
        (before, after) => format!("{} → {}", text(before), text(after)),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn only_what_differs_is_shown() {
        let change = |before: Value, after: Value| ChangeInfo {
            number: 1,
            time: "2026-05-01T09:00:00Z".into(),
            who: "ops".into(),
            token: None,
            address: None,
            subject: "metric".into(),
            act: "defined".into(),
            dataset: Some("velmar".into()),
            object: "level".into(),
            before: Some(before).filter(|value| !value.is_null()),
            after: Some(after).filter(|value| !value.is_null()),
        };
        assert_eq!(object(&change(Value::Null, Value::Null)), "velmar::level");
        let cases = [
            (json!({"unit": "cm", "kind": "gauge"}), json!({"unit": "m", "kind": "gauge"}), "unit: cm → m"),
            (Value::Null, json!({"unit": "cm", "note": null}), "unit: cm"),
            (json!({"keep_for": "90d"}), json!({"keep_for": null}), "keep_for: 90d → –"),
            (json!({"points": 3}), Value::Null, "points was 3"),
            (json!("depth"), json!("level"), "depth → level"),
            (json!("active"), Value::Null, "was active"),
            (Value::Null, json!({"grants": ["read:velmar", "write"]}), "grants: read:velmar, write"),
            (Value::Null, Value::Null, ""),
        ];
        for (before, after, wanted) in cases {
            assert_eq!(difference(&change(before, after)), wanted);
        }
    }
}
