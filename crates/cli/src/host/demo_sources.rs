//! The demo's sources: the service watches itself, keepers drop files into a folder, and a pumping station does not answer.

use std::{
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::{
    keeping::LimitSettings,
    model::DatasetDefinition,
    time::{Nanos, SECOND, Span, format_utc},
};
use fenetre_demo::waterway::DATASET;
use fenetre_wire::retention::RetentionOrder;

use crate::{
    client::Client,
    failure::{FAILED, Failure},
};

/// Dataset of the service's own figures.
const OWN: &str = "own";
/// Days for which they are kept.
const OWN_DAYS: u32 = 30;

/// Defines the sources, and drops a file of a keeper, who read the staffs in the hour before `now`.
pub fn define(client: &Client, url: &str, store: &Path, now: Nanos) -> Result<(), Failure> {
    let description = "The figures of this service, which it polls itself".to_owned();
    client.put_dataset(OWN, &DatasetDefinition { description, ..DatasetDefinition::default() })?;
    let limits = LimitSettings { keep_for: Some(Some(Span { days: OWN_DAYS, ..Span::default() })), keep_under: None };
    client.set_retention(&RetentionOrder { place: OWN.to_owned(), limits, ..RetentionOrder::default() })?;
    let failed = |error: std::io::Error| Failure::new(FAILED, format!("cannot make the folder of the keepers: {error}"));
    let mut folder = std::path::absolute(store).map_err(failed)?.into_os_string();
    folder.push("-keepers");
    let folder = PathBuf::from(folder);
    fs::create_dir_all(&folder).map_err(failed)?;
    fs::write(folder.join(format!("staffs-{}.csv", now / SECOND)), readings(now)).map_err(failed)?;
    let folder = serde_json::to_string(&folder)?;
    let sources = [
        ("own", format!("kind = \"poll\"\ndataset = \"{OWN}\"\nevery = \"10s\"\ntargets = [{{ url = \"{url}/metrics\" }}]\n")),
        (
            "keepers",
            format!(
                "kind = \"folder\"\ndataset = \"{DATASET}\"\npath = {folder}\npattern = \"*.csv\"\n[mapping]\ncolumns = [\n  \
                 {{ column = \"lock\", role = \"tag\" }},\n  {{ column = \"staff_level\", role = \"value\", unit = \"cm\" }},\n]\n"
            ),
        ),
        // Nothing listens there: this source shows what a failure looks like.
        ("pumps", format!("kind = \"poll\"\ndataset = \"{DATASET}\"\nevery = \"10s\"\ntargets = [{{ url = \"http://127.0.0.1:9/pumps\" }}]\n")),
    ];
    sources.iter().try_for_each(|(name, definition)| client.put_source(name, definition, false).map(|_| ()))
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
