//! `fenetre backup`

use std::{
    path::{Path, absolute},
    time::Duration,
};

use fenetre_wire::backup::{BackupOrder, BackupStage, BackupState};
use indicatif::{ProgressBar, ProgressStyle};

use crate::{
    args::BackupArgs,
    client::Client,
    failure::{FAILED, Failure},
    output::words::{bytes, grouped},
};

/// How often the service is asked how far it is.
const LOOK: Duration = Duration::from_millis(100);

/// Copies a running store.
pub fn backup(args: &BackupArgs) -> Result<(), Failure> {
    let client = Client::of(&args.service)?;
    let Some(folder) = &args.folder else {
        let state = client.stop_backup()?;
        if state.stage == BackupStage::Running {
            outln!("stopping the backup to {}; `fenetre backup {0}` continues it", state.to);
        } else {
            outln!("no backup is running");
        }
        return Ok(());
    };
    let written = |path: &Path| Ok::<_, Failure>(absolute(path)?.display().to_string());
    let order = BackupOrder { to: written(folder)?, since: args.since.as_deref().map(written).transpose()?, with_secrets: args.with_secrets };
    let mut state = client.begin_backup(&order)?;
    let bar = progress_bar("copying");
    while state.stage == BackupStage::Running {
        show(&bar, state.done, state.files, state.bytes);
        std::thread::sleep(LOOK);
        state = client.backup()?;
    }
    bar.finish_and_clear();
    match state.stage {
        BackupStage::Done => {
            let BackupState { to, files, kept, bytes: copied, points, damaged, .. } = state;
            let there = if kept > 0 { format!(", {kept} of them unchanged and not copied again") } else { String::new() };
            outln!("{} points in {files} files{there}; {} copied to {to}", grouped(points), bytes(copied));
            outln!("check it with `cd {to} && sha256sum --check SHA256SUMS`, restore it with `fenetre restore {to} STORE`");
            if !damaged.is_empty() {
                let text =
                    format!("the backup does not contain these damaged files: {}. Run `fenetre storage verify` for details", damaged.join(", "));
                return Err(Failure::new(FAILED, text));
            }
            Ok(())
        }
        _ => {
            let reason = state.failure.unwrap_or_else(|| "it was stopped; run the same command to continue".to_owned());
            Err(Failure::new(FAILED, format!("the backup is not complete: {reason}")))
        }
    }
}

/// A bar that counts files.
pub fn progress_bar(what: &str) -> ProgressBar {
    let bar = ProgressBar::new(0);
    if let Ok(style) = ProgressStyle::with_template("{bar:32} {prefix} {pos} of {len} files, {msg}, {eta} left") {
        bar.set_style(style);
    }
    bar.set_prefix(what.to_owned());
    bar
}

/// Shows its progress.
pub fn show(bar: &ProgressBar, done: u64, files: u64, copied: u64) {
    bar.set_length(files);
    bar.set_position(done);
    bar.set_message(bytes(copied));
}
