//! The targets of a round: those of the definition, and those of its file.

use serde::Deserialize;

use super::super::read_text;
use crate::{
    definition::{Poll, Target},
    error::FlowError,
};

const ACTION: &str = "read the targets in";
/// Maximum size of a file of targets, in bytes.
const MAX_BYTES: u64 = 4_000_000;
/// Maximum number of targets.
const MAX_TARGETS: usize = 10_000;

/// A file of targets: `targets = [{ url = …, tags = { … } }, …]`, in TOML or JSON.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    targets: Vec<Target>,
}

/// All targets, each once.
pub fn all(poll: &Poll) -> Result<Vec<Target>, FlowError> {
    let mut targets = poll.targets.clone();
    if let Some(path) = &poll.targets_file {
        let fault = |reason: String| FlowError::File { action: ACTION, path: path.display().to_string(), reason };
        let text = read_text(ACTION, path, MAX_BYTES)?;
        let file: File = if text.trim_start().starts_with('{') {
            serde_json::from_str(&text).map_err(|error| fault(error.to_string()))?
        } else {
            toml::from_str(&text).map_err(|error| fault(error.to_string().trim_end().to_owned()))?
        };
        file.targets.iter().try_for_each(Target::check).map_err(fault)?;
        targets.extend(file.targets);
    }
    if targets.len() > MAX_TARGETS {
        return Err(FlowError::Definition(format!("targets: {} are too many: use up to {MAX_TARGETS} in one source", targets.len())));
    }
    let mut seen = std::collections::HashSet::new();
    targets.retain(|target| seen.insert(target.clone()));
    Ok(targets)
}
