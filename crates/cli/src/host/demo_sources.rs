//! The demo's sources and sinks: devices, weirs, a web service, a broker, a clerk and keepers of the waterway deliver points; a pumping station does not answer.

use std::{
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::{
    model::DatasetDefinition,
    time::{Nanos, SECOND, format_utc},
};
use fenetre_demo::{
    peers::{boats, clerk, control, locks},
    waterway::DATASET,
};

use crate::{
    client::{Client, flows::Flow},
    failure::{FAILED, Failure},
};

/// Dataset of the control room, which has no locks.
const CONTROL: &str = "control";

/// Starts the peers, defines the sources and sinks, and drops a file of a keeper, who read the staffs in the hour before `now`. The broker, if there is one, ends
/// when it is dropped.
pub fn define(client: &Client, store: &Path, now: Nanos) -> Result<Option<boats::Broker>, Failure> {
    let description = "The web service of the control room".to_owned();
    client.put_dataset(CONTROL, &DatasetDefinition { description, ..DatasetDefinition::default() })?;
    let failed = |error: std::io::Error| Failure::new(FAILED, format!("cannot make the folder of the sources: {error}"));
    let mut folder = std::path::absolute(store).map_err(failed)?.into_os_string();
    folder.push("-keepers");
    let folder = PathBuf::from(folder);
    fs::create_dir_all(&folder).map_err(failed)?;
    fs::write(folder.join(format!("staffs-{}.csv", now / SECOND)), readings(now)).map_err(failed)?;
    let table = folder.join("passages.db");
    clerk::start(&table).map_err(|error| Failure::new(FAILED, format!("cannot write {}: {error}", table.display())))?;
    let control = control::start().map_err(failed)?;
    let broker = boats::start(&folder);
    let manners = [
        ("brindle", locks::Manner::Sound),
        ("osier", locks::Manner::Sound),
        ("tansy", locks::Manner::Busy),
        ("fallow", locks::Manner::Silent),
        ("marl", locks::Manner::Stuck),
    ];
    let devices = (1..).zip(manners).map(|(number, (lock, manner))| {
        let port = locks::start(number, manner)?;
        Ok(format!("  {{ address = \"127.0.0.1:{port}\", tags = {{ lock = \"{lock}\" }} }},\n"))
    });
    let devices: String = devices.collect::<std::io::Result<_>>().map_err(failed)?;
    #[cfg(feature = "opcua")]
    let weirs = fenetre_demo::peers::weirs::start(&folder.join("weirs")).map_err(failed)?;
    let minutes = serde_json::to_string(&folder.join("minutes"))?;
    let (folder, table) = (serde_json::to_string(&folder)?, serde_json::to_string(&format!("sqlite://{}", table.display()))?);
    let of = |kind: &str, rest: &str| format!("kind = \"{kind}\"\ndataset = \"{DATASET}\"\n{rest}");
    let mut sources = vec![
        (
            "control",
            format!("kind = \"poll\"\ndataset = \"{CONTROL}\"\nevery = \"10s\"\ntargets = [{{ url = \"http://127.0.0.1:{control}/metrics\" }}]\n"),
        ),
        (
            "locks",
            of(
                "modbus",
                &format!(
                    "every = \"5s\"\nstuck_after = \"1m\"\ndevices = [\n{devices}]\nregisters = [\n  {{ metric = \"turbidity_probe\", table = \"input\", address = 0, scale = 0.1, unit = \"{{NTU}}\" }},\n  \
                     {{ metric = \"gate_contact\", table = \"input\", address = 1, words = {{ 0 = \"shut\", 1 = \"open\" }} }},\n]\n"
                ),
            ),
        ),
        (
            "clerk",
            of(
                "sql",
                &format!(
                    "every = \"10s\"\ndatabase = {table}\ntable = \"passages\"\n[mapping]\ntime = {{ column = \"at\", format = \"s\" }}\ncolumns = [\n  \
                     {{ column = \"lock\", role = \"tag\" }},\n  {{ column = \"boats\", role = \"value\", name = \"passages\", unit = \"{{boat}}\" }},\n  {{ column = \"toll\", role = \"value\" }},\n]\n"
                ),
            ),
        ),
        (
            "keepers",
            of(
                "folder",
                &format!(
                    "path = {folder}\npattern = \"*.csv\"\n[mapping]\ncolumns = [\n  {{ column = \"lock\", role = \"tag\" }},\n  \
                     {{ column = \"staff_level\", role = \"value\", unit = \"cm\" }},\n]\n"
                ),
            ),
        ),
        // Nothing listens there: this source shows what a failure looks like.
        ("pumps", of("poll", "every = \"10s\"\ntargets = [{ url = \"http://127.0.0.1:9/pumps\" }]\n")),
    ];
    #[cfg(feature = "opcua")]
    {
        let nodes = "nodes = [\n  { path = \"Weirs/{lock}/{metric}\" },\n]\n";
        sources.push(("weirs", of("opcua", &format!("endpoint = \"opc.tcp://127.0.0.1:{weirs}\"\n{nodes}"))));
    }
    if let Some(broker) = &broker {
        let topics = "topics = [\"velmar/{lock}/{metric}\"]\n";
        sources.push(("boats", of("mqtt", &format!("broker = \"mqtt://127.0.0.1:{}\"\n{topics}", broker.port))));
    }
    sources.iter().try_for_each(|(name, definition)| client.put_flow(Flow::Source, name, definition, false).map(|_| ()))?;
    let query = "show mean of level by lock show max of level by lock as \\\"level_max\\\" per 1m";
    let mut sinks = vec![("minutes", of("files", &format!("path = {minutes}\nformat = \"csv\"\nbatch_after = \"10s\"\nquery = \"{query}\"\n")))];
    if let Some(broker) = &broker {
        let board = "topic = \"board/{lock}/{metric}\"\npayload = \"value\"\nretain = true\nmetrics = [\"gate_contact\"]\n";
        sinks.push(("board", of("mqtt", &format!("broker = \"mqtt://127.0.0.1:{}\"\n{board}", broker.port))));
    }
    sinks.iter().try_for_each(|(name, definition)| client.put_flow(Flow::Sink, name, definition, false).map(|_| ()))?;
    Ok(broker)
}

/// What a keeper read, lock after lock; one staff was under ice.
fn readings(now: Nanos) -> String {
    let locks = ["brindle", "osier", "tansy", "fallow", "marl", "quill"];
    let line = |(at, lock): (i64, &&str)| {
        let time = format_utc(now - (60 - 10 * at) * 60 * SECOND);
        let level = if *lock == "fallow" { "ice".to_owned() } else { format!("{}.5", 310 - 4 * at) };
        format!("{time},{lock},{level}\n")
    };
    "time,lock,staff_level\n".to_owned() + &(0..).zip(&locks).map(line).collect::<String>()
}
