//! Tree to text, in one canonical layout: `parse(format(q)) == q`.

use std::fmt::Write as _;

use super::{
    lexer::is_plain_name,
    parser::is_keyword,
    tree::{Comparison, Condition, Expr, Frame, FrameWidth, Grouping, InstantText, MetricName, Query, Range, Selection, Show},
};

/// The query in its canonical layout, a line for each `show` and one for the frame.
pub fn format(query: &Query) -> String {
    let mut out = String::new();
    for Show { expr, label } in &query.shows {
        let _ = write!(out, "show {}", expression(expr));
        if let Some(label) = label {
            let _ = write!(out, " as {}", text(label));
        }
        out.push('\n');
    }
    let frame = query.frame.as_ref().map(frame).filter(|frame| !frame.is_empty());
    if let Some(frame) = frame {
        out.push_str(&frame);
        out.push('\n');
    }
    out
}

impl Expr {
    /// The expression in its canonical layout, on one line.
    pub fn to_text(&self) -> String {
        expression(self)
    }
}

impl Frame {
    /// The frame in its canonical layout, on one line; empty where nothing is said.
    pub fn to_text(&self) -> String {
        frame(self)
    }
}

fn expression(expr: &Expr) -> String {
    match expr {
        Expr::Points(of) => format!("points of {}", selection(of)),
        Expr::Reduction(reduction) => {
            let mut out = format!("{} of {}", reduction.reducer.value, selection(&reduction.selection));
            match &reduction.grouping {
                Grouping::Apart => {}
                Grouping::By(tags) => {
                    let tags: Vec<String> = tags.iter().map(|tag| name(&tag.value)).collect();
                    let _ = write!(out, " by {}", tags.join(", "));
                }
                Grouping::Overall => out.push_str(" overall"),
            }
            out
        }
    }
}

fn selection(selection: &Selection) -> String {
    let MetricName { dataset, metric } = &selection.metric.value;
    let mut out = match dataset {
        Some(dataset) => qualified(dataset, metric),
        None => name(metric),
    };
    if let Some(wanted) = &selection.condition {
        let _ = write!(out, " where {}", condition(wanted));
    }
    out
}

/// `velmar::level`, in quotes as a whole where it must be.
fn qualified(dataset: &str, metric: &str) -> String {
    let whole = format!("{dataset}::{metric}");
    if is_plain_name(&whole) { whole } else { format!("'{whole}'") }
}

fn condition(wanted: &Condition) -> String {
    match wanted {
        Condition::All(parts) => parts.iter().map(condition).collect::<Vec<_>>().join(" and "),
        Condition::Is(Comparison { tag, texts, listed, negated }) => {
            let quoted: Vec<String> = texts.iter().map(|wanted| text(&wanted.value)).collect();
            let tag = name(&tag.value);
            match (listed, negated) {
                (false, false) => format!("{tag} = {}", quoted.join("")),
                (false, true) => format!("{tag} != {}", quoted.join("")),
                (true, false) => format!("{tag} in ({})", quoted.join(", ")),
                (true, true) => format!("{tag} not in ({})", quoted.join(", ")),
            }
        }
    }
}

fn frame(frame: &Frame) -> String {
    let mut parts = Vec::new();
    if let Some(over) = &frame.range {
        parts.push(match &over.value {
            Range::Last(span) => format!("over last {span}"),
            Range::Between(from, to) => format!("over {} to {}", instant(&from.value), instant(&to.value)),
            Range::Since(from) => format!("over since {}", instant(&from.value)),
        });
    }
    match frame.width.as_ref().map(|width| width.value) {
        Some(FrameWidth::Of(span)) => parts.push(format!("per {span}")),
        Some(FrameWidth::Auto) => parts.push("per auto".to_owned()),
        None => {}
    }
    if let Some(zone) = &frame.zone {
        parts.push(format!("zone {}", text(&zone.value)));
    }
    parts.join(" ")
}

fn instant(InstantText { base, minus }: &InstantText) -> String {
    match minus {
        Some(span) => format!("{base} - {span}"),
        None => base.clone(),
    }
}

/// A name as a query holds it: in single quotes where it must be.
pub fn name(name: &str) -> String {
    if is_plain_name(name) && !is_keyword(name) { name.to_owned() } else { format!("'{name}'") }
}

fn text(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            c if c.is_control() => {
                let _ = write!(out, "\\u{:04x}", u32::from(c));
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}
