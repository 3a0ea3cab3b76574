//! An answer drawn in the terminal, with axes, units and a legend.

use std::fmt::Write as _;

use fenetre_core::{
    model::Value,
    time::{Nanos, SECOND},
};
use fenetre_formats::document::{AnswerDocument, Form, LineDocument, ShowDocument};
use ratatui::{
    buffer::Buffer,
    layout::{Alignment, Rect},
    style::{Color, Style},
    symbols::Marker,
    widgets::{Axis, Chart, Dataset, GraphType, Widget},
};

use super::{
    table::{heading, line_name},
    words::{Clock, decimals, instant, value},
};

/// Lines that one chart shows, each in its colour.
const MAX_LINES: usize = 6;
/// Colours that differ for colour-blind eyes too, on dark and light ground.
const COLOURS: [(Color, u8); MAX_LINES] = [
    (Color::Indexed(67), 67),
    (Color::Indexed(172), 172),
    (Color::Indexed(72), 72),
    (Color::Indexed(132), 132),
    (Color::Indexed(136), 136),
    (Color::Indexed(245), 245),
];
const HEIGHT: u16 = 20;

/// The answer as charts, one for each show, `width` columns wide; with colours where the terminal has them.
pub fn charts(answer: &AnswerDocument, width: u16, colours: bool) -> String {
    answer.shows.iter().map(|show| chart(answer, show, width, colours)).collect::<Vec<_>>().join("\n")
}

fn chart(answer: &AnswerDocument, show: &ShowDocument, width: u16, colours: bool) -> String {
    let mut out = heading(answer, show);
    if show.form == Form::Moment && answer.moments.len() < 2 {
        out.push_str("one value each, which has no course: see them with --output table\n");
        return out;
    }
    let shown = &show.lines[..show.lines.len().min(MAX_LINES)];
    let runs: Vec<Vec<Vec<(f64, f64)>>> = shown.iter().map(|line| unbroken(answer, show, line)).collect();
    let numbers = || runs.iter().flatten().flatten().map(|point| point.1);
    if numbers().next().is_none() {
        let is_state = shown.iter().any(|line| line.values.iter().flatten().any(|value| value.number().is_none()));
        out.push_str(if is_state {
            "its values are words, which have no chart: see them with --output table\n"
        } else {
            "nothing to draw: every window is empty\n"
        });
        return out;
    }
    let range = [instant(&answer.from), instant(&answer.to)];
    let x_bounds = range.map(seconds);
    let ticks = round_ticks(numbers().fold(f64::INFINITY, f64::min), numbers().fold(f64::NEG_INFINITY, f64::max));
    let y_bounds = [ticks.first().copied().unwrap_or_default(), ticks.last().copied().unwrap_or_default()];
    let datasets = runs.iter().zip(COLOURS).flat_map(|(runs, (colour, _))| {
        runs.iter().map(move |run| {
            let style = if colours { Style::new().fg(colour) } else { Style::new() };
            let kind = if run.len() == 1 { GraphType::Scatter } else { GraphType::Line };
            Dataset::default().marker(Marker::Braille).graph_type(kind).style(style).data(run)
        })
    });
    let clock = Clock::of(&answer.zone, instant(&answer.asked_at), &range).in_minutes();
    let middle = range[0] + (range[1] - range[0]) / 2;
    let x_labels = [range[0], middle, range[1]].map(|at| clock.format(at));
    let places = decimals(ticks.iter().copied());
    let y_labels: Vec<String> = ticks.iter().map(|tick| value(Some(&Value::Number(*tick)), places)).collect();
    let chart = Chart::new(datasets.collect())
        .x_axis(Axis::default().bounds(x_bounds).labels(x_labels).labels_alignment(Alignment::Right))
        .y_axis(Axis::default().bounds(y_bounds).labels(y_labels))
        .legend_position(None);
    let area = Rect::new(0, 0, width.max(40), HEIGHT);
    let mut buffer = Buffer::empty(area);
    chart.render(area, &mut buffer);
    out.push_str(&text_of(&buffer, colours));
    let places = decimals(numbers());
    legend(&mut out, show, shown, places, colours);
    out
}

/// The line's numbers as runs without a gap, by seconds and value; of a window its middle.
fn unbroken(answer: &AnswerDocument, show: &ShowDocument, line: &LineDocument) -> Vec<Vec<(f64, f64)>> {
    let at = |i: usize| match (&line.times, show.form) {
        (Some(times), Form::Points) => seconds(instant(times[i].as_deref().unwrap_or_default())),
        (_, Form::Moment) => seconds(instant(&answer.moments[i])),
        _ => f64::midpoint(seconds(instant(&answer.windows.starts[i])), seconds(instant(&answer.windows.ends[i]))),
    };
    let mut runs = vec![Vec::new()];
    for (i, value) in line.values.iter().enumerate() {
        match (value.as_ref().and_then(Value::number), runs.last_mut()) {
            (Some(number), Some(run)) => run.push((at(i), number)),
            (None, Some(run)) if !run.is_empty() => runs.push(Vec::new()),
            _ => {}
        }
    }
    runs.retain(|run| !run.is_empty());
    runs
}

fn seconds(at: Nanos) -> f64 {
    at as f64 / SECOND as f64
}

/// Round numbers at even distances that enclose the values: about four steps of 1, 2 or 5 times a power of ten.
fn round_ticks(least: f64, greatest: f64) -> Vec<f64> {
    let span = if greatest > least { greatest - least } else { greatest.abs().max(1.0) };
    let power = 10f64.powf((span / 4.0).log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].map(|times| times * power).into_iter().find(|step| span / step <= 4.0).unwrap_or(10.0 * power);
    let first = (least / step).floor();
    let last = (greatest / step).ceil().max(first + 1.0);
    (0..=(last - first) as usize).map(|i| (first + i as f64) * step).collect()
}

/// A drawn buffer as lines of text, with colours as escape codes where they are wanted.
fn text_of(buffer: &Buffer, colours: bool) -> String {
    let mut out = String::new();
    for y in 0..buffer.area.height {
        let mut line = String::new();
        let mut current = Color::Reset;
        for x in 0..buffer.area.width {
            let cell = &buffer[(x, y)];
            let wanted = if colours { cell.fg } else { Color::Reset };
            if wanted != current {
                line.push_str("\x1b[0m");
                if let Color::Indexed(index) = wanted {
                    let _ = write!(line, "\x1b[38;5;{index}m");
                }
                current = wanted;
            }
            line.push_str(cell.symbol());
        }
        if current != Color::Reset {
            line.push_str("\x1b[0m");
        }
        out.push_str(line.trim_end());
        out.push('\n');
    }
    out
}

fn legend(out: &mut String, show: &ShowDocument, shown: &[LineDocument], places: usize, colours: bool) {
    for (line, (_, index)) in shown.iter().zip(COLOURS) {
        let mark = if colours { format!("\x1b[38;5;{index}m━━\x1b[0m") } else { "━━".to_owned() };
        // Without colours, the latest value identifies the line.
        let latest = line.values.iter().rev().flatten().next();
        let _ = write!(out, "{mark} {} {}   ", line_name(line, &show.lines), value(latest, places));
    }
    out.push('\n');
    if show.lines.len() > MAX_LINES {
        let _ = writeln!(out, "{} of {} lines are drawn: narrow with `where`, or merge with `by`", MAX_LINES, show.lines.len());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_are_round_and_enclose_the_values() {
        assert_eq!(round_ticks(486.2, 634.1), [450.0, 500.0, 550.0, 600.0, 650.0]);
        assert_eq!(round_ticks(0.0, 1.0), [0.0, 0.5, 1.0]);
        assert_eq!(round_ticks(5.0, 5.0), [4.0, 6.0]);
        assert_eq!(round_ticks(0.0, 0.0), [0.0, 0.5]);
        assert_eq!(round_ticks(-12.0, 30.0), [-20.0, 0.0, 20.0, 40.0]);
    }
}
