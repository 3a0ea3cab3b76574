//! `fenetre rollup`

use fenetre_core::{
    model::{RollupLevel, RollupPolicy},
    time::Span,
};
use fenetre_wire::rollups::{LevelInfo, PolicyInfo, RollupPreview};
use serde::Serialize;

use crate::{
    args::{ListOutput, RollupArgs, RollupCommand, RollupPolicyArgs},
    client::Client,
    confirm::confirm,
    failure::{Failure, WRONG},
    output::{
        list::{Column, aligned, plain_table, write},
        terminal::paragraph,
        words::{bytes, count_of, grouped, minute},
    },
};

/// A level with the policy that it is of.
#[derive(Serialize)]
struct Row {
    policy: String,
    #[serde(flatten)]
    level: LevelInfo,
}

/// Shows how far levels are, or changes policies.
pub fn run(args: RollupArgs) -> Result<(), Failure> {
    let client = Client::of(&args.target.service)?;
    let dataset = &args.target.dataset;
    match args.command.unwrap_or(RollupCommand::Show { measure: false, output: ListOutput::Table }) {
        RollupCommand::Show { measure, output } => show(&client, dataset, measure, output),
        RollupCommand::Set { policy, yes } => {
            let wanted = policy_of(&policy)?;
            let preview = client.preview_rollup(dataset, &policy.name, &wanted)?;
            print_preview(&preview);
            let loses = !preview.losses.is_empty();
            // What takes nothing away need not be asked for.
            if loses && !confirm(yes, "Apply this policy?", &policy.name)? {
                return Ok(());
            }
            let created = client.put_rollup(dataset, &policy.name, &wanted, loses)?.created;
            outln!(
                "{} {}; existing points are backfilled, the newest first: `fenetre rollup show`",
                policy.name,
                if created { "created" } else { "changed" }
            );
            Ok(())
        }
        RollupCommand::Preview { policy } => {
            print_preview(&client.preview_rollup(dataset, &policy.name, &policy_of(&policy)?)?);
            Ok(())
        }
        RollupCommand::Fill { stop } => {
            let info = client.fill_rollups(dataset, stop)?;
            for PolicyInfo { name, levels, .. } in info.policies {
                levels.iter().for_each(|level| outln!("{name} {}: {}", level.width, progress(level)));
            }
            outln!("{}", if stop { "backfilling is stopped; `fenetre rollup fill` resumes it" } else { "backfilling continues in the background" });
            Ok(())
        }
        RollupCommand::Drop { name, yes } => {
            let losses = client.rollups(dataset, false)?.policies.into_iter().find(|policy| policy.name == name).map(|policy| policy.losses);
            let losses = losses.unwrap_or_default();
            losses.iter().for_each(|loss| outln!("! {loss}"));
            if confirm(yes, &format!("Drop the rollup policy {name} with everything that was made for it?"), &name)? {
                client.drop_rollup(dataset, &name, !losses.is_empty())?;
                outln!("{name} is dropped; points stay");
            }
            Ok(())
        }
    }
}

fn policy_of(args: &RollupPolicyArgs) -> Result<RollupPolicy, Failure> {
    let span = |text: &str| Span::parse(text).map_err(|error| Failure::new(WRONG, error.to_string()));
    let level = |text: &String| {
        let (width, keep_for) = text.split_once('=').map_or((text.as_str(), None), |(width, keep_for)| (width, Some(keep_for)));
        Ok(RollupLevel { width: span(width)?, keep_for: keep_for.map(span).transpose()? })
    };
    let policy = RollupPolicy {
        metrics: args.metrics.clone(),
        condition: args.condition.clone(),
        zone: args.zone.clone(),
        levels: args.levels.iter().map(level).collect::<Result<_, Failure>>()?,
        lateness: span(&args.lateness)?,
    };
    policy.check().map_err(|error| Failure::new(WRONG, error.to_string()))?;
    Ok(policy)
}

fn print_preview(preview: &RollupPreview) {
    outln!(
        "{} of {}: {}",
        count_of(preview.series, "series", "series"),
        count_of(preview.metrics.len() as u64, "metric", "metrics"),
        preview.metrics.join(", ")
    );
    let mut table = plain_table();
    let columns = ["level", "kept", "windows per day", "points each", "per day", "smaller than points", "final size"];
    table.set_header(columns.iter().enumerate().map(|(at, name)| aligned((*name).to_owned(), at > 1)));
    for level in &preview.levels {
        let (kept, at_rest) = match &level.keep_for {
            Some(keep_for) => (keep_for.clone(), bytes(level.at_rest)),
            None => ("no limit".to_owned(), format!("{} per year", bytes(level.at_rest))),
        };
        let figures = [
            grouped(level.windows_a_day),
            level.points_each.map_or("–".to_owned(), |points| grouped(points.round().max(1.0) as u64)),
            bytes(level.bytes_a_day),
            times(level.smaller, "larger"),
            at_rest,
        ];
        let names = [level.width.clone(), kept].map(|text| aligned(text, false));
        table.add_row(names.into_iter().chain(figures.map(|text| aligned(text, true))));
    }
    outln!("\n{}\n", table.trim_fmt());
    if preview.levels.iter().any(|level| level.smaller.is_some_and(|ratio| ratio < 0.95)) {
        outln!("{}", paragraph("Windows of few points take more space than the points: such a level pays off only if it is kept longer.", ""));
    }
    preview.losses.iter().for_each(|loss| outln!("! {loss}"));
}

fn show(client: &Client, dataset: &str, measure: bool, output: ListOutput) -> Result<(), Failure> {
    let info = client.rollups(dataset, measure)?;
    if output == ListOutput::Json {
        outln!("{}", serde_json::to_string_pretty(&info)?);
        return Ok(());
    }
    if info.policies.is_empty() && output == ListOutput::Table {
        outln!("{dataset} has no rollups. For example: fenetre rollup set --dataset {dataset} --level 5m=90d --level 1h=2y --level 1d");
        return Ok(());
    }
    let rows: Vec<Row> =
        info.policies.iter().flat_map(|policy| policy.levels.iter().map(|level| Row { policy: policy.name.clone(), level: level.clone() })).collect();
    write(&rows, &columns(), output)?;
    if output == ListOutput::Table {
        for PolicyInfo { name, policy, metrics, .. } in &info.policies {
            let condition = policy.condition.as_ref().map_or(String::new(), |condition| format!(" where {condition}"));
            outln!("\n{name}: {}{condition}; late points: {}", metrics.join(", "), policy.lateness);
        }
        if let Some(question) = rows.iter().rev().find_map(|row| row.level.measured.as_ref()) {
            outln!("\nmeasured with: {question}");
        }
        let stopped = if info.fill_stopped { "; filling is stopped (`fenetre rollup fill`)" } else { "" };
        outln!(
            "\n{} computed since the start, {} rebuilt{stopped}",
            count_of(info.windows_made, "window", "windows"),
            count_of(info.made_again, "time range", "time ranges")
        );
        if let Some(failure) = &info.failure {
            outln!("! the last run failed and will be retried: {failure}");
        }
    }
    Ok(())
}

/// Progress of a level; for a level without windows, what it is waiting for.
fn progress(level: &LevelInfo) -> String {
    match (level.windows, level.waiting_points) {
        (0, 0) if level.series == 0 => "no points yet".to_owned(),
        (0, waiting) if waiting > 0 => format!("waiting for {} to be packed", count_of(waiting, "point", "points")),
        _ => filled(level.filled),
    }
}

/// How far a level is filled; the first steps of a long way show too.
fn filled(share: f64) -> String {
    let percent = share * 100.0;
    if percent > 0.0 && percent < 10.0 { format!("{percent:.1}%") } else { format!("{percent:.0}%") }
}

/// A factor, or the reason why there is none.
fn times(ratio: Option<f64>, else_word: &str) -> String {
    match ratio {
        None => "–".to_owned(),
        Some(ratio) if ratio < 0.95 => format!("no, {:.1} times {else_word}", 1.0 / ratio.max(1e-6)),
        Some(ratio) if ratio < 10.0 => format!("{ratio:.1} times"),
        Some(ratio) => format!("{ratio:.0} times"),
    }
}

/// A lag in words.
fn lag(seconds: f64) -> String {
    match seconds {
        seconds if seconds < 120.0 => format!("{seconds:.0} s"),
        seconds if seconds < 7_200.0 => format!("{:.0} min", seconds / 60.0),
        seconds if seconds < 172_800.0 => format!("{:.0} h", seconds / 3_600.0),
        seconds => format!("{:.0} d", seconds / 86_400.0),
    }
}

fn columns() -> Vec<Column<Row>> {
    vec![
        Column { name: "policy", right: false, text: |r| r.policy.clone(), plain: |r| r.policy.clone() },
        Column { name: "level", right: false, text: |r| r.level.width.clone(), plain: |r| r.level.width.clone() },
        Column {
            name: "kept",
            right: false,
            text: |r| r.level.keep_for.clone().unwrap_or_else(|| "no limit".to_owned()),
            plain: |r| r.level.keep_for.clone().unwrap_or_default(),
        },
        Column {
            name: "from (UTC)",
            right: false,
            text: |r| {
                r.level
                    .from
                    .as_ref()
                    .map_or_else(|| if r.level.until.is_some() { "first point".to_owned() } else { "–".to_owned() }, |from| minute(Some(from)))
            },
            plain: |r| r.level.from.clone().unwrap_or_default(),
        },
        Column { name: "until (UTC)", right: false, text: |r| minute(r.level.until.as_ref()), plain: |r| r.level.until.clone().unwrap_or_default() },
        Column { name: "filled", right: true, text: |r| progress(&r.level), plain: |r| r.level.filled.to_string() },
        Column { name: "lag", right: true, text: |r| lag(r.level.lag_seconds), plain: |r| r.level.lag_seconds.to_string() },
        Column {
            name: "out of date",
            right: true,
            text: |r| if r.level.out_of_date == 0 { "–".to_owned() } else { grouped(r.level.out_of_date) },
            plain: |r| r.level.out_of_date.to_string(),
        },
        Column { name: "windows", right: true, text: |r| grouped(r.level.windows), plain: |r| r.level.windows.to_string() },
        Column { name: "on disk", right: true, text: |r| bytes(r.level.bytes), plain: |r| r.level.bytes.to_string() },
        Column {
            name: "smaller",
            right: true,
            text: |r| times(r.level.smaller, "larger"),
            plain: |r| r.level.smaller.map_or(String::new(), |ratio| ratio.to_string()),
        },
        Column {
            name: "faster",
            right: true,
            text: |r| times(r.level.faster, "slower"),
            plain: |r| r.level.faster.map_or(String::new(), |ratio| ratio.to_string()),
        },
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ratios_and_shares_are_readable() {
        assert_eq!(
            [Some(29.4), Some(1.25), Some(0.5), None].map(|ratio| times(ratio, "larger")),
            ["29 times", "1.2 times", "no, 2.0 times larger", "–"]
        );
        assert_eq!([0.0, 0.004, 0.5, 1.0].map(filled), ["0%", "0.4%", "50%", "100%"]);
    }

    #[test]
    fn an_empty_level_says_what_it_waits_for() {
        let level = |series: u64, windows: u64, waiting: u64| {
            let text = format!(
                r#"{{"width": "1h", "keep_for": null, "from": null, "until": null, "filled": 1.0, "waiting_points": {waiting}, "lag_seconds": 0, "out_of_date": 0,
                    "series": {series}, "windows": {windows}, "bytes": 0, "smaller": null, "faster": null, "measured": null}}"#
            );
            serde_json::from_str::<LevelInfo>(&text).unwrap()
        };
        let texts = [level(0, 0, 0), level(2, 0, 1), level(2, 0, 1_200), level(2, 7, 1_200)].map(|level| progress(&level));
        assert_eq!(texts, ["no points yet", "waiting for 1 point to be packed", "waiting for 1,200 points to be packed", "100%"]);
    }
}
