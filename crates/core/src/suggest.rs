//! The closest known name, for messages that offer one.

/// The known name nearest to `found`, if one is near enough to be what was meant: at most a third of its letters differ, or else one of both
/// goes on where the other ends.
pub fn closest<'a>(found: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = found.to_lowercase();
    let allowed = (wanted.chars().count() / 3).max(1);
    let known: Vec<(String, &str)> = known.into_iter().map(|name| (name.to_lowercase(), name)).collect();
    let near =
        known.iter().map(|(name, known)| (strsim::damerau_levenshtein(&wanted, name), *known)).filter(|(distance, _)| *distance <= allowed).min();
    let goes_on = |name: &str| {
        let shorter = name.len().min(wanted.len());
        shorter >= SHARED_BEGINNING && (name.starts_with(&wanted) || wanted.starts_with(name))
    };
    let by_beginning = || known.iter().filter(|(name, _)| goes_on(name)).map(|(name, known)| (name.len().abs_diff(wanted.len()), *known)).min();
    near.or_else(by_beginning).map(|(_, name)| name)
}

/// So many letters at the least are no accident.
const SHARED_BEGINNING: usize = 4;

/// At most `most` names in quotes for a message, with how many more there are.
pub fn listing<'a>(names: impl IntoIterator<Item = &'a str>, most: usize) -> String {
    let names: Vec<&str> = names.into_iter().collect();
    let shown = names.iter().take(most).map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ");
    match names.len().saturating_sub(most) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}

/// The hint after an unknown name: the one that was probably meant, or the existing ones.
pub fn hint<'a>(unknown: &str, known: impl IntoIterator<Item = &'a str>, most: usize) -> String {
    let known: Vec<&str> = known.into_iter().collect();
    match (closest(unknown, known.iter().copied()), known.as_slice()) {
        (Some(meant), _) => format!("did you mean `{meant}`?"),
        (None, []) => "there are none yet".to_owned(),
        (None, [only]) => format!("the only one is `{only}`"),
        (None, _) => format!("there are {}", listing(known, most)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn suggests_near_misses_only() {
        let known = ["level", "flow", "water_temp"];
        assert_eq!(closest("levle", known), Some("level"));
        assert_eq!(closest("Water_Tmp", known), Some("water_temp"));
        assert_eq!(closest("voltage", known), None);
        assert_eq!(closest("water_temperature", known), Some("water_temp"));
        assert_eq!(closest("leve", ["level_of_the_upper_gate", "flow"]), Some("level_of_the_upper_gate"));
        assert_eq!(closest("lev", ["level_of_the_upper_gate", "flow"]), None);
        assert_eq!(closest("", known), None);
    }

    #[test]
    fn long_lists_are_cut() {
        assert_eq!(listing(["a", "b", "c"], 2), "`a`, `b` and 1 more");
    }

    #[test]
    fn a_hint_suits_the_number_of_names() {
        let of = |known: &[&str]| hint("mian", known.iter().copied(), 2);
        assert_eq!(of(&["main", "velmar"]), "did you mean `main`?");
        assert_eq!(of(&[]), "there are none yet");
        assert_eq!(of(&["velmar"]), "the only one is `velmar`");
        assert_eq!(of(&["velmar", "weirs", "works"]), "there are `velmar`, `weirs` and 1 more");
    }
}
