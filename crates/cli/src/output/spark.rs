//! An answer as small lines: one for each, with its least, greatest and latest value.

use std::fmt::Write as _;

use fenetre_core::model::Value;
use fenetre_formats::document::{AnswerDocument, Form};

use super::{
    table::{heading, line_name},
    words::{decimals, value},
};

const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
const MIN_WIDTH: usize = 10;

/// The answer as small lines, `width` columns wide.
pub fn sparks(answer: &AnswerDocument, width: u16) -> String {
    let mut out = String::new();
    for show in &answer.shows {
        if !out.is_empty() {
            out.push('\n');
        }
        out.push_str(&heading(answer, show));
        if show.form == Form::Moment && answer.moments.len() < 2 {
            out.push_str("one value each, which has no course: see them with --output table\n");
            continue;
        }
        let numbers: Vec<Vec<Option<f64>>> =
            show.lines.iter().map(|line| line.values.iter().map(|one| one.as_ref().and_then(Value::number)).collect()).collect();
        let all = || numbers.iter().flatten().flatten().copied();
        let Some((least, greatest)) = bounds(all()) else {
            out.push_str("nothing to draw: there are no numbers\n");
            continue;
        };
        let places = decimals(all());
        let text_of = |number: f64| value(Some(&Value::Number(number)), places);
        let names: Vec<String> = show.lines.iter().map(|line| line_name(line, &show.lines)).collect();
        let name_width = names.iter().map(|name| name.chars().count()).max().unwrap_or(0);
        let figure_width = [text_of(least), text_of(greatest)].iter().map(|text| text.chars().count()).max().unwrap_or(0);
        let room = usize::from(width).saturating_sub(name_width + 3 * (figure_width + 2) + 4).max(MIN_WIDTH);
        let room = room.min(numbers.iter().map(Vec::len).max().unwrap_or(0));
        let _ = writeln!(out, "{:name_width$}  {:room$}  {:>figure_width$}  {:>figure_width$}  {:>figure_width$}", "", "", "min", "max", "last");
        for (name, line) in names.iter().zip(&numbers) {
            // Each on its own scale: what a small line shows is its course, its height stands beside it.
            let own = bounds(line.iter().flatten().copied());
            let figures = match own {
                Some((low, high)) => [low, high, line.iter().rev().flatten().next().copied().unwrap_or(f64::NAN)].map(text_of),
                None => ["–", "–", "–"].map(str::to_owned),
            };
            let drawn = course(line, room, own.unwrap_or_default());
            let [low, high, last] = figures;
            let _ = writeln!(out, "{name:name_width$}  {drawn:room$}  {low:>figure_width$}  {high:>figure_width$}  {last:>figure_width$}");
        }
    }
    out
}

fn bounds(numbers: impl Iterator<Item = f64>) -> Option<(f64, f64)> {
    numbers.fold(None, |known, number| match known {
        None => Some((number, number)),
        Some((low, high)) => Some((f64::min(low, number), f64::max(high, number))),
    })
}

/// The values as blocks of eighths; several share a column where there is no room for each, as their mean.
fn course(values: &[Option<f64>], room: usize, (least, greatest): (f64, f64)) -> String {
    let columns = values.len().min(room);
    let column = |at: usize| {
        let part = &values[at * values.len() / columns..(at + 1) * values.len() / columns];
        let known: Vec<f64> = part.iter().flatten().copied().collect();
        if known.is_empty() {
            return ' ';
        }
        let mean = known.iter().sum::<f64>() / known.len() as f64;
        let share = if greatest > least { (mean - least) / (greatest - least) } else { 0.5 };
        STEPS[((share * 8.0) as usize).min(7)]
    };
    (0..columns).map(column).collect()
}

#[cfg(test)]
mod tests {
    use fenetre_formats::document::{CostDocument, LineDocument, ShowDocument, WindowsDocument};

    use super::*;

    fn answer(lines: &[(&str, &[Option<f64>])], form: Form) -> AnswerDocument {
        let time = |hour: usize| format!("2026-05-01T{hour:02}:00:00Z");
        let line = |(lock, values): &(&str, &[Option<f64>])| LineDocument {
            tags: [("lock".to_owned(), (*lock).to_owned())].into(),
            metric: None,
            unit: None,
            times: None,
            filled: vec![],
            partial: vec![],
            values: values.iter().map(|value| value.map(Value::Number)).collect(),
        };
        let windows = lines.first().map_or(0, |line| line.1.len());
        AnswerDocument {
            asked_at: time(12),
            zone: "UTC".to_owned(),
            from: time(0),
            to: time(windows),
            moments: vec![],
            windows: WindowsDocument {
                width: Some("1h".to_owned()),
                starts: (0..windows).map(time).collect(),
                ends: (1..=windows).map(time).collect(),
                ..WindowsDocument::default()
            },
            shows: vec![ShowDocument {
                label: "mean of level".to_owned(),
                unit: Some("cm".to_owned()),
                form,
                lines: lines.iter().map(line).collect(),
            }],
            notes: vec![],
            sources: vec![],
            cost: CostDocument::default(),
        }
    }

    #[test]
    fn each_line_has_a_sparkline_and_figures() {
        let lines: [(&str, &[Option<f64>]); 3] =
            [("osier", &[Some(300.0), Some(310.0), None, Some(320.5)]), ("wick", &[Some(7.0); 4]), ("marl", &[None; 4])];
        insta::assert_snapshot!(sparks(&answer(&lines, Form::Windows), 80));
        assert!(sparks(&answer(&lines, Form::Moment), 80).contains("has no course"));
        assert!(sparks(&answer(&[("marl", &[None])], Form::Windows), 80).contains("nothing to draw"));
    }

    #[test]
    fn a_sparkline_fits_its_width_and_leaves_gaps() {
        let rising: Vec<Option<f64>> = (0..8).map(|i| Some(f64::from(i))).collect();
        assert_eq!(course(&rising, 20, (0.0, 7.0)), "▁▂▃▄▅▆▇█");
        assert_eq!(course(&rising, 4, (0.0, 7.0)), "▁▃▆█");
        assert_eq!(course(&[Some(1.0), None, Some(1.0)], 9, (1.0, 1.0)), "▅ ▅");
    }
}
