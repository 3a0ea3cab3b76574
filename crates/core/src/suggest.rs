//! The closest known name, for messages that offer one.

/// The known name nearest to `found`, if one is near enough to be what was meant: at most a third of its letters differ.
pub fn closest<'a>(found: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = found.to_lowercase();
    let allowed = (wanted.chars().count() / 3).max(1);
    known
        .into_iter()
        .map(|name| (strsim::damerau_levenshtein(&wanted, &name.to_lowercase()), name))
        .filter(|(distance, _)| *distance <= allowed)
        .min()
        .map(|(_, name)| name)
}

/// At most `most` names in quotes for a message, with how many more there are.
pub fn listing<'a>(names: impl IntoIterator<Item = &'a str>, most: usize) -> String {
    let names: Vec<&str> = names.into_iter().collect();
    let shown = names.iter().take(most).map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ");
    match names.len().saturating_sub(most) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_is_seen_and_a_stranger_is_not() {
        let known = ["level", "flow", "water_temp"];
        assert_eq!(closest("levle", known), Some("level"));
        assert_eq!(closest("Water_Tmp", known), Some("water_temp"));
        assert_eq!(closest("voltage", known), None);
        assert_eq!(closest("", known), None);
    }

    #[test]
    fn long_lists_are_cut() {
        assert_eq!(listing(["a", "b", "c"], 2), "`a`, `b` and 1 more");
    }
}
