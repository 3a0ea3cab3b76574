//! Which lines of two sides belong together: those that agree in the tags that both have.

use std::collections::{BTreeMap, BTreeSet};

use crate::{model::LineTags, suggest::listing};

/// What came of joining two sides.
#[derive(Debug, PartialEq)]
pub struct Joined {
    /// Tags of the lines that come out, in order, and which lines they are made of.
    pub lines: Vec<(LineTags, usize, usize)>,
    /// Lines of either side without a partner.
    pub alone: (usize, usize),
}

/// Why sides cannot be joined, in two sentences.
#[derive(Debug, PartialEq)]
pub struct NotJoined {
    pub message: String,
    pub help: String,
}

/// Lines of the left and of the right.
type Sides = (Vec<usize>, Vec<usize>);

/// Joins lines by the tags that both sides have. One side may have fewer tags, or none: then each of its lines stands beside several.
pub fn join(left: &[LineTags], right: &[LineTags]) -> Result<Joined, NotJoined> {
    let (left_keys, right_keys) = (keys(left), keys(right));
    let common: Vec<&str> = left_keys.intersection(&right_keys).copied().collect();
    let mut groups: BTreeMap<Vec<Option<&str>>, Sides> = BTreeMap::new();
    for (at, tags) in left.iter().enumerate() {
        groups.entry(shared(tags, &common)).or_default().0.push(at);
    }
    for (at, tags) in right.iter().enumerate() {
        groups.entry(shared(tags, &common)).or_default().1.push(at);
    }
    let mut joined = Joined { lines: Vec::new(), alone: (0, 0) };
    for (ones, others) in groups.values() {
        match (ones.len(), others.len()) {
            (lonely, 0) => joined.alone.0 += lonely,
            (0, lonely) => joined.alone.1 += lonely,
            (1, _) | (_, 1) => {
                for (one, other) in ones.iter().flat_map(|one| others.iter().map(move |other| (*one, *other))) {
                    joined.lines.push((united(&left[one], &right[other]), one, other));
                }
            }
            (ones_count, others_count) => {
                let which = tags_text(&left[ones[0]], &common);
                return Err(NotJoined {
                    message: format!("ambiguous: {ones_count} lines on the left and {others_count} on the right belong to {which}"),
                    help: format!(
                        "the left side has lines by {}, the right side by {}: merge one of them with `by` or `overall`",
                        named(&left_keys),
                        named(&right_keys)
                    ),
                });
            }
        }
    }
    if joined.lines.is_empty() && !left.is_empty() && !right.is_empty() {
        return Err(NotJoined {
            message: format!("no line of the left has a partner on the right by {}", named(&common.iter().copied().collect())),
            help: format!("on the left there is {}, on the right {}", sample(left, &common), sample(right, &common)),
        });
    }
    joined.lines.sort_by(|a, b| a.0.cmp(&b.0));
    Ok(joined)
}

fn keys(lines: &[LineTags]) -> BTreeSet<&str> {
    lines.iter().flat_map(|tags| tags.keys().map(|key| &**key)).collect()
}

fn shared<'t>(tags: &'t LineTags, common: &[&str]) -> Vec<Option<&'t str>> {
    common.iter().map(|key| tags.get(*key).map(|value| &**value)).collect()
}

/// The tags of both.
fn united(left: &LineTags, right: &LineTags) -> LineTags {
    left.iter().chain(right.iter()).map(|(key, value)| (key.clone(), value.clone())).collect()
}

fn tags_text(tags: &LineTags, common: &[&str]) -> String {
    let parts: Vec<String> = common.iter().filter_map(|key| Some(format!("{key} = \"{}\"", tags.get(*key)?))).collect();
    if parts.is_empty() { "each other: they have no tag in common".to_owned() } else { parts.join(", ") }
}

fn named(keys: &BTreeSet<&str>) -> String {
    if keys.is_empty() { "no tag".to_owned() } else { listing(keys.iter().copied(), 6) }
}

fn sample(lines: &[LineTags], common: &[&str]) -> String {
    let mut some: Vec<String> = lines.iter().map(|tags| tags_text(tags, common)).collect();
    some.dedup();
    listing(some.iter().map(String::as_str), 3)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(texts: &[&[(&str, &str)]]) -> Vec<LineTags> {
        texts.iter().map(|tags| tags.iter().map(|(key, value)| ((*key).into(), (*value).into())).collect()).collect()
    }

    fn places(left: &[&[(&str, &str)]], right: &[&[(&str, &str)]]) -> Result<Vec<(usize, usize)>, String> {
        join(&lines(left), &lines(right))
            .map(|joined| joined.lines.iter().map(|(_, one, other)| (*one, *other)).collect())
            .map_err(|error| error.message)
    }

    #[test]
    fn lines_join_by_common_tags() {
        let (up, low) = ([("reach", "upper")], [("reach", "lower")]);
        assert_eq!(places(&[&up, &low], &[&low, &up]), Ok(vec![(1, 0), (0, 1)]));
        // One for all, and one for each of several.
        assert_eq!(places(&[&up, &low], &[&[]]).map(|pairs| pairs.len()), Ok(2));
        let locks: [&[(&str, &str)]; 2] = [&[("lock", "marl"), ("reach", "upper")], &[("lock", "osier"), ("reach", "upper")]];
        assert_eq!(places(&locks, &[&up]), Ok(vec![(0, 0), (1, 0)]));
    }

    #[test]
    fn ambiguous_and_unmatched_lines_are_reported() {
        let locks: [&[(&str, &str)]; 2] = [&[("lock", "marl")], &[("lock", "osier")]];
        assert!(places(&locks, &[&[("pump", "p1")], &[("pump", "p2")]]).unwrap_err().starts_with("ambiguous: 2 lines"));
        assert!(places(&locks, &[&[("lock", "wick")]]).unwrap_err().contains("no line of the left has a partner"));
        let joined = join(&lines(&locks), &lines(&[&[("lock", "marl")]])).unwrap();
        assert_eq!((joined.lines.len(), joined.alone), (1, (1, 0)));
        assert_eq!(places(&locks, &[]), Ok(vec![]));
    }
}
