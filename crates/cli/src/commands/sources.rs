//! `fenetre source`: sources, which fetch points automatically.

use fenetre_wire::sources::{PushingCaller, SourceInfo, SourcePart, SourceReject, SourceSeries, SourceTrial, Trouble, TroubledSeries};

use super::flows::{self, rate, read_definition};
use crate::{
    args::{ListOutput, SourceArgs, SourceCommand},
    client::{Client, flows::Flow},
    failure::{FAILED, Failure},
    output::{
        list::{Column, write},
        words::{count_of, grouped, utc},
    },
};

/// Runs a command about sources.
pub fn run(args: SourceArgs) -> Result<(), Failure> {
    let client = || Client::of(&args.service);
    match args.command.unwrap_or(SourceCommand::List) {
        SourceCommand::List => {
            let sources: Vec<SourceInfo> = client()?.flows(Flow::Source)?;
            write(&sources, &columns(), args.output)?;
            if sources.is_empty() && args.output == ListOutput::Table {
                noteln!("define one with `fenetre source add FILE.toml`");
            }
            Ok(())
        }
        SourceCommand::Callers => {
            let callers = client()?.pushing_callers()?;
            write(&callers, &caller_columns(), args.output)?;
            if callers.is_empty() && args.output == ListOutput::Table {
                noteln!("nobody has pushed points since the service started");
            }
            Ok(())
        }
        SourceCommand::Show { name } => show(&client()?.flow(Flow::Source, &name)?),
        SourceCommand::Example { kind } => flows::example(Flow::Source, &kind, client),
        #[cfg(feature = "service")]
        SourceCommand::Check { file } => flows::check(Flow::Source, &file),
        SourceCommand::Try { file } => show_trial(&client()?.try_flow(Flow::Source, &read_definition(Flow::Source, &file)?)?),
        SourceCommand::Add { file, name } => flows::add(Flow::Source, &client()?, &file, name, "was started again"),
        SourceCommand::Pause { name } => client()?.change_flow(Flow::Source, &name, "pause").map(|()| outln!("source {name} is paused")),
        SourceCommand::Resume { name } => client()?.change_flow(Flow::Source, &name, "resume").map(|()| outln!("source {name} is resumed")),
        SourceCommand::Run { name } => client()?.change_flow(Flow::Source, &name, "run").map(|()| outln!("source {name} begins its next round")),
        SourceCommand::Remove { name } => client()?.remove_flow(Flow::Source, &name).map(|()| outln!("source {name} is removed; its points stay")),
        SourceCommand::Log { name, limit } => flows::log(Flow::Source, &client()?, &name, limit, args.output),
    }
}

fn columns() -> Vec<Column<SourceInfo>> {
    let plain = |name, plain| Column { name, right: false, text: plain, plain };
    vec![
        plain("source", |source: &SourceInfo| source.name.clone()),
        plain("kind", |source: &SourceInfo| source.kind.clone()),
        plain("dataset", |source: &SourceInfo| source.dataset.clone()),
        plain("state", state),
        Column {
            name: "last points (UTC)",
            right: false,
            text: |source| utc(source.last_points.as_ref()),
            plain: |source| source.last_points.clone().unwrap_or_default(),
        },
        Column { name: "per s", right: true, text: |source| rate(source.points_per_second), plain: |source| source.points_per_second.to_string() },
        Column { name: "points", right: true, text: |source| grouped(source.points), plain: |source| source.points.to_string() },
        Column { name: "rejected", right: true, text: |source| grouped(source.rejected), plain: |source| source.rejected.to_string() },
        plain("error", |source: &SourceInfo| source.error.clone().or_else(|| failed(&source.parts)).unwrap_or_default()),
    ]
}

fn caller_columns() -> Vec<Column<PushingCaller>> {
    let plain = |name, plain| Column { name, right: false, text: plain, plain };
    vec![
        plain("caller", |caller: &PushingCaller| caller.token.clone().unwrap_or_else(|| "this machine".to_owned())),
        plain("kind", |caller: &PushingCaller| caller.kind.clone()),
        plain("dataset", |caller: &PushingCaller| caller.dataset.clone()),
        Column {
            name: "last points (UTC)",
            right: false,
            text: |caller| utc(caller.last_points.as_ref()),
            plain: |caller| caller.last_points.clone().unwrap_or_default(),
        },
        Column { name: "per s", right: true, text: |caller| rate(caller.points_per_second), plain: |caller| caller.points_per_second.to_string() },
        Column { name: "points", right: true, text: |caller| grouped(caller.points), plain: |caller| caller.points.to_string() },
        Column { name: "rejected", right: true, text: |caller| grouped(caller.rejected), plain: |caller| caller.rejected.to_string() },
    ]
}

/// Its state, how many of its parts failed, and how many of its series are in trouble.
fn state(source: &SourceInfo) -> String {
    let failed = source.parts.iter().filter(|part| part.error.is_some() && part.points == 0).count();
    let partly = source.parts.iter().filter(|part| part.error.is_some()).count() - failed;
    let mut state = source.state.as_str().to_owned();
    if source.is_late {
        state.push_str(", late");
    }
    if failed > 0 {
        state += &format!(", {failed} of {} failed", source.parts.len());
    }
    if partly > 0 {
        state += &format!(", {partly} of {} partly failed", source.parts.len());
    }
    for (trouble, count) in
        [(Trouble::Stale, source.series.stale), (Trouble::Stuck, source.series.stuck), (Trouble::ClockOff, source.series.clock_off)]
    {
        if count > 0 {
            state += &format!(", {} {}", count_of(count, "series", "series"), trouble.words());
        }
    }
    state
}

/// The first error of its parts.
fn failed(parts: &[SourcePart]) -> Option<String> {
    parts
        .iter()
        .find_map(|part| part.error.as_ref().map(|error| (&part.name, error)))
        .map(|(name, error)| if error.starts_with(name.as_str()) { error.clone() } else { format!("{name}: {error}") })
}

fn show(source: &SourceInfo) -> Result<(), Failure> {
    outln!("{}: {} into {}, {}", source.name, source.kind, source.dataset, state(source));
    if let Some(error) = &source.error {
        outln!("  error     {error}, since {}", utc(source.failing_since.as_ref()));
    }
    outln!("  points    {} stored, {} rejected in {}", grouped(source.points), grouped(source.rejected), count_of(source.rounds, "round", "rounds"));
    outln!("  latest    {}", source.last_points.as_ref().map_or_else(|| "none".to_owned(), |at| utc(Some(at))));
    list_watched(&source.series);
    show_rejects(&source.rejects);
    show_parts(&source.parts);
    if let Some(sent) = &source.sent {
        outln!("  sent      {sent}");
    }
    outln!("{}", serde_json::to_string_pretty(&source.definition)?);
    Ok(())
}

fn list_watched(series: &SourceSeries) {
    let more = if series.is_full { ", and more that are not watched" } else { "" };
    outln!("  series    {} watched{more}", grouped(series.watched));
    for TroubledSeries { metric, tags, trouble } in &series.troubled {
        let tags = tags.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ");
        let what = match trouble.trouble {
            Trouble::Stale => "no point since",
            Trouble::Stuck => "the same value since",
            Trouble::ClockOff => "the clock is off: the latest point has the time",
        };
        outln!("            {metric} {tags}: {what} {}", utc(Some(&trouble.since)));
    }
}

fn show_rejects(rejects: &[SourceReject]) {
    for SourceReject { text, count, samples, .. } in rejects {
        outln!("  rejected  {}: {text}", grouped(*count));
        samples.iter().for_each(|sample| outln!("            {sample}"));
    }
}

fn show_parts(parts: &[SourcePart]) {
    for part in parts {
        let points = count_of(part.points, "point", "points");
        let what = match &part.error {
            Some(error) if part.points > 0 => format!("{points}, {error}"),
            Some(error) => error.clone(),
            None => points,
        };
        let rows = part.rows.map(|rows| format!(", {} read", count_of(rows, "row", "rows")));
        let nodes = part.nodes.map(|nodes| format!(", {}", count_of(nodes, "node", "nodes")));
        outln!("  {}{}  {what}, {:.0} ms", part.name, rows.or(nodes).unwrap_or_default(), part.seconds * 1_000.0);
    }
}

fn show_trial(trial: &SourceTrial) -> Result<(), Failure> {
    for point in &trial.sample {
        let tags = point.tags.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ");
        outln!("  {} {tags} {} {}", point.metric, point.time, point.value);
    }
    show_parts(&trial.parts);
    show_rejects(&trial.rejects);
    if let Some(sent) = &trial.sent {
        outln!("  sent      {sent}");
    }
    outln!("{} would be stored, {} rejected; nothing was stored", count_of(trial.points, "point", "points"), grouped(trial.rejected));
    if trial.parts.iter().any(|part| part.error.is_some()) { Err(Failure::new(FAILED, "a part of the round failed")) } else { Ok(()) }
}
