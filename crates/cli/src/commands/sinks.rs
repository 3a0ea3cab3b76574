//! `fenetre sink`: sinks, which send points continuously.

use fenetre_core::keeping::ByteSize;
use fenetre_wire::sinks::{AsideBatch, SinkDifference, SinkInfo, SinkTrial, SinkVerification};

use super::flows::{self, rate, read_definition};
use crate::{
    args::{ListOutput, SinkArgs, SinkCommand},
    client::{Client, flows::Flow},
    failure::{FAILED, Failure},
    output::{
        list::{Column, write},
        words::{count_of, duration, grouped, utc},
    },
};

/// Runs a command about sinks.
pub fn run(args: SinkArgs) -> Result<(), Failure> {
    let client = || Client::of(&args.service);
    match args.command.unwrap_or(SinkCommand::List) {
        SinkCommand::List => {
            let sinks: Vec<SinkInfo> = client()?.flows(Flow::Sink)?;
            write(&sinks, &columns(), args.output)?;
            if sinks.is_empty() && args.output == ListOutput::Table {
                noteln!("define one with `fenetre sink add FILE.toml`");
            }
            Ok(())
        }
        SinkCommand::Show { name } => show(&client()?.flow(Flow::Sink, &name)?),
        SinkCommand::Example { kind } => flows::example(Flow::Sink, &kind, client),
        #[cfg(feature = "service")]
        SinkCommand::Check { file } => flows::check(Flow::Sink, &file),
        SinkCommand::Try { file } => show_trial(&client()?.try_flow(Flow::Sink, &read_definition(Flow::Sink, &file)?)?),
        SinkCommand::Add { file, name } => flows::add(Flow::Sink, &client()?, &file, name, "continues where it was"),
        SinkCommand::Pause { name } => client()?.change_flow(Flow::Sink, &name, "pause").map(|()| outln!("sink {name} is paused")),
        SinkCommand::Resume { name } => client()?.change_flow(Flow::Sink, &name, "resume").map(|()| outln!("sink {name} is resumed")),
        SinkCommand::Replay { name, over } => client()?
            .replay_sink(&name, &over)
            .map(|()| outln!("sink {name} sends the points of {over} again: `fenetre sink show {name}` shows how far it is")),
        SinkCommand::Verify { name, over } => verify(&name, &client()?.verify_sink(&name, &over)?, args.output),
        SinkCommand::Aside { name, batch: Some(batch) } => client()?.aside_points(&name, batch, &mut std::io::stdout()),
        SinkCommand::Aside { name, batch: None } => {
            let batches = client()?.aside(&name)?;
            write(&batches, &aside_columns(), args.output)?;
            if batches.is_empty() && args.output == ListOutput::Table {
                noteln!("the destination has refused no batch");
            }
            Ok(())
        }
        SinkCommand::Resend { name } => {
            let client = client()?;
            let count = client.aside(&name)?.len() as u64;
            client.change_flow(Flow::Sink, &name, "resend")?;
            outln!("sink {name} sends {} again", count_of(count, "batch", "batches"));
            Ok(())
        }
        SinkCommand::Discard { name, batch } => {
            let client = client()?;
            let batches = match batch {
                Some(batch) => vec![batch],
                None => client.aside(&name)?.into_iter().map(|batch| batch.id).collect(),
            };
            batches.iter().try_for_each(|batch| client.remove_aside(&name, *batch))?;
            outln!("{} of the sink {name} removed", count_of(batches.len() as u64, "batch", "batches"));
            Ok(())
        }
        SinkCommand::Remove { name } => {
            client()?.remove_flow(Flow::Sink, &name).map(|()| outln!("sink {name} is removed; the points that it has sent stay"))
        }
        SinkCommand::Log { name, limit } => flows::log(Flow::Sink, &client()?, &name, limit, args.output),
    }
}

fn columns() -> Vec<Column<SinkInfo>> {
    let plain = |name, plain| Column { name, right: false, text: plain, plain };
    vec![
        plain("sink", |sink: &SinkInfo| sink.name.clone()),
        plain("kind", |sink: &SinkInfo| sink.kind.clone()),
        plain("dataset", |sink: &SinkInfo| sink.dataset.clone()),
        plain("destination", |sink: &SinkInfo| sink.destination.clone()),
        plain("state", state),
        Column {
            name: "last sent (UTC)",
            right: false,
            text: |sink| utc(sink.last_sent.as_ref()),
            plain: |sink| sink.last_sent.clone().unwrap_or_default(),
        },
        Column { name: "per s", right: true, text: |sink| rate(sink.points_per_second), plain: |sink| sink.points_per_second.to_string() },
        Column { name: "points", right: true, text: |sink| grouped(sink.points), plain: |sink| sink.points.to_string() },
        Column { name: "behind", right: true, text: |sink| grouped(sink.behind.points), plain: |sink| sink.behind.points.to_string() },
        Column { name: "set aside", right: true, text: |sink| grouped(sink.set_aside), plain: |sink| sink.set_aside.to_string() },
        plain("error", |sink: &SinkInfo| sink.error.clone().unwrap_or_default()),
    ]
}

/// Its state, and when it will have caught up.
fn state(sink: &SinkInfo) -> String {
    let mut state = sink.state.as_str().to_owned();
    if sink.behind.seconds > 0 && state != "healthy" {
        state += &format!(" for {}", duration(sink.behind.seconds));
    }
    if let Some(seconds) = sink.behind.caught_up_in.filter(|_| state.starts_with("behind")) {
        state += &format!(", caught up in about {}", duration(seconds));
    }
    state
}

fn show(sink: &SinkInfo) -> Result<(), Failure> {
    outln!("{}: {} from {} to {}, {}", sink.name, sink.kind, sink.dataset, sink.destination, state(sink));
    if let Some(error) = &sink.error {
        let next = sink.next.as_ref().map_or_else(String::new, |next| format!("; next attempt {}", utc(Some(next))));
        outln!("  error     {error}, since {}{next}", utc(sink.failing_since.as_ref()));
    }
    let batches = count_of(sink.batches, "batch", "batches");
    outln!("  sent      {} points in {batches}, {}, {} rejected there", grouped(sink.points), ByteSize(sink.bytes).words(), grouped(sink.rejected));
    sink.rejects.iter().for_each(|reject| outln!("            {reject}"));
    outln!("  latest    {}", sink.last_sent.as_ref().map_or_else(|| "none".to_owned(), |at| utc(Some(at))));
    outln!("  behind    about {} points", grouped(sink.behind.points));
    sink.gaps.iter().for_each(|gap| outln!("  to read   {} to {}, from partitions", utc(Some(&gap.from)), utc(Some(&gap.to))));
    if sink.set_aside > 0 {
        outln!("  set aside {}: `fenetre sink aside {}` lists them", count_of(sink.set_aside, "batch", "batches"), sink.name);
    }
    outln!("{}", serde_json::to_string_pretty(&sink.definition)?);
    Ok(())
}

fn show_trial(trial: &SinkTrial) -> Result<(), Failure> {
    if !trial.rows.is_empty() {
        outln!("{}", trial.rows.trim_end());
    }
    if let Some(answer) = &trial.answer {
        outln!("{answer}");
    }
    outln!("{} would be sent; nothing was sent", count_of(trial.series, "series", "series"));
    Ok(())
}

fn aside_columns() -> Vec<Column<AsideBatch>> {
    let plain = |name, plain| Column { name, right: false, text: plain, plain };
    vec![
        Column { name: "batch", right: true, text: |batch| batch.id.to_string(), plain: |batch| batch.id.to_string() },
        Column { name: "set aside (UTC)", right: false, text: |batch| utc(Some(&batch.time)), plain: |batch| batch.time.clone() },
        Column { name: "points", right: true, text: |batch| grouped(batch.points), plain: |batch| batch.points.to_string() },
        Column { name: "from (UTC)", right: false, text: |batch| utc(Some(&batch.first)), plain: |batch| batch.first.clone() },
        Column { name: "to (UTC)", right: false, text: |batch| utc(Some(&batch.last)), plain: |batch| batch.last.clone() },
        plain("reason", |batch: &AsideBatch| batch.reason.clone()),
    ]
}

fn difference_columns() -> Vec<Column<SinkDifference>> {
    vec![
        Column { name: "metric", right: false, text: |one| one.metric.clone(), plain: |one| one.metric.clone() },
        Column { name: "from (UTC)", right: false, text: |one| utc(Some(&one.from)), plain: |one| one.from.clone() },
        Column { name: "to (UTC)", right: false, text: |one| utc(Some(&one.to)), plain: |one| one.to.clone() },
        Column { name: "points here", right: true, text: |one| grouped(one.points_here), plain: |one| one.points_here.to_string() },
        Column { name: "points there", right: true, text: |one| grouped(one.points_there), plain: |one| one.points_there.to_string() },
        Column { name: "sum here", right: true, text: |one| number(one.sum_here), plain: |one| number(one.sum_here) },
        Column { name: "sum there", right: true, text: |one| number(one.sum_there), plain: |one| number(one.sum_there) },
    ]
}

fn number(sum: Option<f64>) -> String {
    sum.map_or_else(String::new, |sum| sum.to_string())
}

fn verify(name: &str, found: &SinkVerification, output: ListOutput) -> Result<(), Failure> {
    if found.differing > 0 || output != ListOutput::Table {
        write(&found.differences, &difference_columns(), output)?;
    }
    found.notes.iter().for_each(|note| noteln!("note: {note}"));
    let compared = format!(
        "{} in {} of {}",
        count_of(found.points, "point", "points"),
        count_of(found.windows, "window", "windows"),
        count_of(found.metrics, "metric", "metrics")
    );
    if found.differing > 0 {
        return Err(Failure::new(
            FAILED,
            format!(
                "{} of sink {name} {}: {compared} compared",
                count_of(found.differing, "window", "windows"),
                if found.differing == 1 { "differs" } else { "differ" }
            ),
        ));
    }
    noteln!("the destination of sink {name} has the same: {compared} compared");
    Ok(())
}
