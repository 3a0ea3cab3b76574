//! A note about points that replace each other: probably a tag is missing.

/// A note about points of one body or import that replace each other, if they are too many to be an accident.
pub fn note_duplicates(duplicates: u64, accepted: u64, missing_tags: &[String]) -> Option<String> {
    // One in a hundred may be sent twice.
    if duplicates * 100 <= accepted {
        return None;
    }
    let share = duplicates * 100 / accepted.max(1);
    let help = match missing_tags {
        [] => "a tag is probably missing".to_owned(),
        tags => format!("probably missing as a tag: {}", tags.iter().map(|tag| format!("`{tag}`")).collect::<Vec<_>>().join(", ")),
    };
    Some(format!("WARNING: {duplicates} of {accepted} points ({share}%) replace each other, since they have the same series and time; {help}"))
}
