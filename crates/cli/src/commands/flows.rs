//! What `fenetre source` and `fenetre sink` have in common.

use std::{fs, path::Path};

use fenetre_core::suggest::listing;
use fenetre_wire::flows::{FlowDifference, FlowEvent};

use crate::{
    args::ListOutput,
    client::{Client, flows::Flow},
    failure::{Failure, WRONG},
    output::{
        list::{Column, write},
        words::{grouped, utc},
    },
};

/// Prints an example of a kind. With a built-in service, no other needs to run.
pub fn example(flow: Flow, kind: &str, client: impl FnOnce() -> Result<Client, Failure>) -> Result<(), Failure> {
    #[cfg(feature = "service")]
    let examples = {
        drop(client);
        own_examples(flow)
    };
    #[cfg(not(feature = "service"))]
    let examples = client()?.flow_examples(flow)?;
    let kinds = || examples.iter().map(|example| example.kind.as_str());
    match examples.iter().find(|example| example.kind == kind) {
        Some(example) => {
            outln!("{}", example.definition.trim_end());
            Ok(())
        }
        None => Err(Failure::new(WRONG, format!("unknown kind `{kind}`: use one of {}", listing(kinds(), 9)))),
    }
}

#[cfg(feature = "service")]
fn own_examples(flow: Flow) -> Vec<fenetre_wire::flows::FlowExample> {
    use fenetre_flows::{definition, sinks};
    use fenetre_wire::flows::FlowExample;

    let example = |(kind, definition): (&str, &str)| FlowExample { kind: kind.to_owned(), definition: definition.to_owned() };
    match flow {
        Flow::Source => definition::examples::all().map(example).collect(),
        Flow::Sink => sinks::definition::examples::all().map(example).collect(),
    }
}

/// Reads a definition. With a built-in service, it is also checked, so that errors name the file.
#[cfg_attr(not(feature = "service"), expect(unused_variables, reason = "the service checks it"))]
pub fn read_definition(flow: Flow, file: &Path) -> Result<String, Failure> {
    let text = fs::read_to_string(file).map_err(|error| Failure::new(WRONG, format!("cannot read {}: {error}", file.display())))?;
    #[cfg(feature = "service")]
    summary(flow, &text, file)?;
    Ok(text)
}

/// Checks a definition and prints a summary.
#[cfg(feature = "service")]
pub fn check(flow: Flow, file: &Path) -> Result<(), Failure> {
    let summary = summary(flow, &read_definition(flow, file)?, file)?;
    outln!("{} is valid: {summary}", file.display());
    Ok(())
}

/// Kind, dataset and destination of a definition.
#[cfg(feature = "service")]
fn summary(flow: Flow, text: &str, file: &Path) -> Result<String, Failure> {
    use fenetre_flows::{definition::Definition, sinks::definition::SinkDefinition};
    let name = file.display().to_string();
    let summary = match flow {
        Flow::Source => Definition::parse(text, &name).map(|definition| format!("kind {}, into {}", definition.kind(), definition.dataset())),
        Flow::Sink => SinkDefinition::parse(text, &name)
            .map(|definition| format!("kind {}, from {} to {}", definition.kind(), definition.dataset(), definition.destination())),
    };
    summary.map_err(|error| Failure::new(WRONG, error.to_string()))
}

/// Defines a source or a sink from a file, under the name of the file unless one is given. `changed` completes the
/// message about a changed one.
pub fn add(flow: Flow, client: &Client, file: &Path, name: Option<String>, changed: &str) -> Result<(), Failure> {
    let stem = || file.file_stem().and_then(|stem| stem.to_str()).unwrap_or_default().to_owned();
    let (noun, name) = (flow.noun(), name.unwrap_or_else(stem));
    match client.put_flow(flow, &name, &read_definition(flow, file)?, false)?.difference {
        FlowDifference::New => outln!("{noun} {name} is added: `fenetre {noun} list` shows it"),
        FlowDifference::Changed => outln!("{noun} {name} is changed, and {changed}"),
        FlowDifference::None => outln!("{noun} {name} is the same already: nothing was changed"),
    }
    Ok(())
}

/// Shows the latest events.
pub fn log(flow: Flow, client: &Client, name: &str, limit: usize, output: ListOutput) -> Result<(), Failure> {
    let mut events = client.flow_events(flow, name)?;
    events.truncate(limit);
    let columns: Vec<Column<FlowEvent>> = vec![
        Column { name: "time (UTC)", right: false, text: |event| utc(Some(&event.last)), plain: |event| event.last.clone() },
        Column { name: "times", right: true, text: |event| grouped(event.count), plain: |event| event.count.to_string() },
        Column { name: "event", right: false, text: |event| event.text.clone(), plain: |event| event.text.clone() },
    ];
    write(&events, &columns, output)
}

/// Points per second: `12`, `0.4`.
pub fn rate(points: f64) -> String {
    if points >= 10.0 || points <= 0.0 { grouped(points.round() as u64) } else { format!("{points:.1}") }
}
