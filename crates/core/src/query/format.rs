//! Tree to text, in one canonical layout: `parse(format(q)) == q`.

use std::fmt::Write as _;

use super::{lexer::is_plain_name, parser::is_keyword, tree::*};
use crate::time::Span;

/// The query in its canonical layout, a line for each `let` and `show` and one for the frame.
pub fn format(query: &Query) -> String {
    let mut out = String::new();
    for Let { name: given, expr } in &query.lets {
        let _ = writeln!(out, "let {} = {}", name(&given.value), expression(expr));
    }
    for shown in &query.shows {
        out.push_str(&show(shown));
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

impl Selection {
    /// The selection in its canonical layout, on one line.
    pub fn to_text(&self) -> String {
        selection(self)
    }
}

impl PointsOf {
    /// The metrics, and what holds for them, in their canonical layout, on one line.
    pub fn to_text(&self) -> String {
        points_of(self)
    }
}

impl Condition {
    /// The condition in its canonical layout, on one line.
    pub fn to_text(&self) -> String {
        condition(self)
    }
}

impl Frame {
    /// The frame in its canonical layout, on one line; empty if nothing is set.
    pub fn to_text(&self) -> String {
        frame(self)
    }
}

fn show(Show { expr, keeping, rank, label, unit }: &Show) -> String {
    let mut out = format!("show {}", expression(expr));
    if let Some(Keeping { comparison, number }) = keeping {
        let _ = write!(out, " keeping {} {number}", comparison.as_str());
    }
    if let Some(Rank { end, count, by }) = rank {
        let _ = write!(out, " {} {count}", if *end == RankEnd::Top { "top" } else { "bottom" });
        if let Some(by) = by {
            let _ = write!(out, " by {}", by.value);
        }
    }
    if let Some(label) = label {
        let _ = write!(out, " as {}", quoted(label));
    }
    match unit {
        Some(UnitClause::In(unit)) => drop(write!(out, " in {}", quoted(&unit.value))),
        Some(UnitClause::Unit(unit)) => drop(write!(out, " unit {}", quoted(&unit.value))),
        None => {}
    }
    out
}

fn expression(expr: &Expr) -> String {
    match expr {
        Expr::Number(number) => number.to_string(),
        Expr::Negate(inner) => match **inner {
            Expr::Number(_) | Expr::Negate(_) | Expr::Binary(_) => format!("-({})", expression(inner)),
            _ => format!("-{}", expression(inner)),
        },
        Expr::Binary(binary) => {
            let Binary { operator, left, right } = &**binary;
            let strength = operator.value.strength();
            // Operators of one strength group to the left.
            format!("{} {} {}", operand(left, strength), operator.value.as_str(), operand(right, strength + 1))
        }
        Expr::Call(call) => {
            let arguments: String = call.arguments.iter().map(|number| format!(", {number}")).collect();
            format!("{}({}{arguments})", call.function.value.as_str(), expression(&call.of))
        }
        Expr::Points(of) => format!("points of {}", points_of(of)),
        Expr::Selection(of) => selection(of),
        Expr::Reduction(reduction) => {
            let of = match &reduction.of {
                Of::Selection(of) => selection(of),
                Of::Lines(inner) => format!("({})", expression(inner)),
            };
            format!("{} of {of}{}", reduction.reducer.value, grouping(&reduction.grouping))
        }
    }
}

/// An operand, in parentheses where it would be read as part of something else.
fn operand(expr: &Expr, strength: u8) -> String {
    match expr {
        Expr::Binary(binary) if binary.operator.value.strength() < strength => format!("({})", expression(expr)),
        _ => expression(expr),
    }
}

fn grouping(grouping: &Grouping) -> String {
    match grouping {
        Grouping::Apart => String::new(),
        Grouping::By(tags) => {
            let tags: Vec<String> = tags.iter().map(|tag| name(&tag.value)).collect();
            format!(" by {}", tags.join(", "))
        }
        Grouping::Overall => " overall".to_owned(),
    }
}

fn selection(Selection { metric, condition, earlier }: &Selection) -> String {
    narrowed(metric_name(&metric.value), condition.as_ref(), earlier.as_ref())
}

fn points_of(PointsOf { metric, also, condition, earlier }: &PointsOf) -> String {
    let metrics: Vec<String> = std::iter::once(metric).chain(also).map(|metric| metric_name(&metric.value)).collect();
    narrowed(metrics.join(", "), condition.as_ref(), earlier.as_ref())
}

fn metric_name(MetricName { dataset, metric }: &MetricName) -> String {
    match dataset {
        Some(dataset) => qualified(dataset, metric),
        None => name(metric),
    }
}

fn narrowed(mut out: String, wanted: Option<&Condition>, earlier: Option<&Spanned<Span>>) -> String {
    if let Some(wanted) = wanted {
        let _ = write!(out, " where {}", condition(wanted));
    }
    if let Some(earlier) = earlier {
        let _ = write!(out, " {} earlier", earlier.value);
    }
    out
}

/// `velmar::level`, in quotes as a whole where it must be.
fn qualified(dataset: &str, metric: &str) -> String {
    let whole = format!("{dataset}::{metric}");
    if is_plain_name(&whole) { whole } else { format!("'{whole}'") }
}

fn condition(wanted: &Condition) -> String {
    let listed = |parts: &[Condition], word: &str| parts.iter().map(nested).collect::<Vec<_>>().join(word);
    match wanted {
        Condition::All(parts) => listed(parts, " and "),
        Condition::Any(parts) => listed(parts, " or "),
        Condition::Not(inner) => format!("not {}", nested(inner)),
        Condition::Has(tag) => format!("has {}", name(&tag.value)),
        Condition::Lacks(tag) => format!("lacks {}", name(&tag.value)),
        Condition::Value(ValueTest { comparison, number }) => format!("value {} {number}", comparison.value.as_str()),
        Condition::Matches(TagMatch { tag, pattern, negated }) => {
            format!("{}{} matches {}", name(&tag.value), if *negated { " not" } else { "" }, quoted(&pattern.value))
        }
        Condition::Is(TagTest { tag, texts, listed, negated }) => {
            let quoted: Vec<String> = texts.iter().map(|wanted| quoted(&wanted.value)).collect();
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

/// A condition within another: lists stand in parentheses, so that nobody has to know what binds closer.
fn nested(wanted: &Condition) -> String {
    match wanted {
        Condition::All(_) | Condition::Any(_) => format!("({})", condition(wanted)),
        _ => condition(wanted),
    }
}

fn frame(frame: &Frame) -> String {
    let mut parts = Vec::new();
    if let Some(over) = &frame.range {
        parts.push(match &over.value {
            Range::Last(span) => format!("over last {span}"),
            Range::Between(from, to) => format!("over {} to {}", instant(&from.value), instant(&to.value)),
            Range::Since(from) => format!("over since {}", instant(&from.value)),
            Range::Calendar(date) => format!("over {date}"),
        });
    }
    if let Some(width) = &frame.width {
        parts.push(match width.value {
            FrameWidth::Of(span) => format!("per {span}"),
            FrameWidth::Auto => "per auto".to_owned(),
        });
    }
    parts.extend(frame.stepping.as_ref().map(|span| format!("stepping {}", span.value)));
    parts.extend(frame.starting.as_ref().map(|time| format!("starting {}", time.value)));
    parts.extend(frame.moments.as_ref().map(|at| match &at.value {
        Moments::Listed(instants) => {
            let instants: Vec<String> = instants.iter().map(|at| instant(&at.value)).collect();
            format!("at {}", instants.join(", "))
        }
        Moments::Starts => "at starts".to_owned(),
    }));
    parts.extend(frame.taking.as_ref().map(|taking| format!("taking {}", taking.value.as_str())));
    parts.extend(frame.within.as_ref().map(|span| format!("within {}", span.value)));
    parts.extend(frame.zone.as_ref().map(|zone| format!("zone {}", quoted(&zone.value))));
    parts.extend(frame.gaps.as_ref().map(|gaps| match gaps.value {
        Gaps::Empty => "gaps empty".to_owned(),
        Gaps::Hold => "gaps hold".to_owned(),
        Gaps::Line => "gaps line".to_owned(),
        Gaps::Number(number) => format!("gaps {number}"),
    }));
    parts.extend(frame.source.as_ref().map(|source| match source.value {
        ReadFrom::Raw => "from raw".to_owned(),
        ReadFrom::Level(span) => format!("from {span}"),
    }));
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

/// A text as a query holds it: in double quotes, with JSON's escapes.
pub fn quoted(text: &str) -> String {
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
