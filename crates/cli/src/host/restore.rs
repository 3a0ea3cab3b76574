//! `fenetre restore`

use fenetre_store::BackupProgress;

use crate::{
    args::RestoreArgs,
    commands::backup::{progress_bar, show},
    failure::{FAILED, Failure},
    output::words::grouped,
};

/// Makes a store from a backup.
pub fn run(args: &RestoreArgs) -> Result<(), Failure> {
    let bar = progress_bar("restoring");
    let progress = &mut |BackupProgress { done, files, bytes }: BackupProgress| {
        show(&bar, done as u64, files as u64, bytes);
        true
    };
    let report = fenetre_store::restore(&args.backup, &args.store, progress).map_err(|error| Failure::new(FAILED, error.to_string()))?;
    bar.finish_and_clear();
    let files = report.copied + report.kept;
    outln!(
        "{} points in {files} files, all checksums match; serve the store with `fenetre serve --store {}`",
        grouped(report.points),
        args.store.display()
    );
    Ok(())
}
