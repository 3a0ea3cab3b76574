//! `fenetre storage repair`: finds damage in a stopped store, and repairs it.

use std::{path::Path, process::ExitCode};

use fenetre_store::{Finding, Remedy, RepairStep, plan_repair, repair};

use crate::{
    failure::{DONE, FAILED, Failure},
    output::words::{count_of, grouped},
};

/// Shows what can be repaired, or repairs it.
pub fn run(store: &Path, from: Option<&Path>, apply: bool) -> Result<ExitCode, Failure> {
    let failed = |error: fenetre_store::StoreError| Failure::new(FAILED, error.to_string());
    let plan = plan_repair(store, from).map_err(failed)?;
    let checked = format!("Checked {}", count_of(plan.checked, "file", "files"));
    if plan.steps.is_empty() {
        outln!("{checked}: no errors");
        return Ok(ExitCode::from(DONE));
    }
    let found = format!("{checked}: {}", count_of(plan.steps.len() as u64, "error", "errors"));
    let is_open = |step: &&RepairStep| matches!(step.remedy, Remedy::NeedsBackup | Remedy::AcceptLoss);
    let open = plan.steps.iter().filter(is_open).count() as u64;
    if !apply {
        for step in &plan.steps {
            outln!("{}: {}\n  {}", step.file, finding(&step.finding), remedy(&step.file, &step.remedy));
        }
        let next = if open == plan.steps.len() as u64 { "" } else { ". To carry out the plan, add --apply" };
        outln!("{found}. Nothing was changed{next}");
        return Ok(ExitCode::from(FAILED));
    }
    let now = fenetre_core::time::Nanos::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or_default();
    let done = &mut |step: &RepairStep, saved: Option<fenetre_store::Salvaged>| {
        outln!("{}: {}\n  {}", step.file, finding(&step.finding), remedy(&step.file, &step.remedy));
        if let Some(saved) = saved {
            let lost = match saved.lost {
                Some(0) => "no block is lost".to_owned(),
                Some(lost) => format!("{} could not be read", count_of(lost, "block", "blocks")),
                None => "its index could not be read, so the number of lost blocks is unknown".to_owned(),
            };
            outln!("  saved {} in {}; {lost}", count_of(saved.points, "point", "points"), count_of(saved.blocks, "block", "blocks"));
        }
    };
    repair(store, from, &plan, now, done).map_err(failed)?;
    let repaired = grouped(plan.steps.len() as u64 - open);
    outln!("{found}, {repaired} repaired. The old files are in {}", store.join("damaged").display());
    Ok(ExitCode::from(if open > 0 { FAILED } else { DONE }))
}

fn finding(finding: &Finding) -> String {
    match finding {
        Finding::Missing => "missing or empty".to_owned(),
        Finding::Damaged(what) => format!("damaged ({what})"),
        Finding::Foreign => "belongs to another store".to_owned(),
        Finding::Older { found, known } => format!("older than the points (they refer to series {found}, it knows ids up to {known})"),
    }
}

fn remedy(file: &str, remedy: &Remedy) -> String {
    let without_names = |unnamed: u64| match unnamed {
        0 => String::new(),
        unnamed => format!("; {} unknown to it, and their points are not used", count_of(unnamed, "series is", "series are")),
    };
    match remedy {
        Remedy::TakeCatalogue { unnamed } => {
            format!("take the catalogue of the backup, with the definitions and limits of that time{}", without_names(*unnamed))
        }
        Remedy::KeepCatalogue { unnamed } => format!("keep it, and do not use the ids of unknown series again{}", without_names(*unnamed)),
        Remedy::TakeFile => "take the file of the backup".to_owned(),
        Remedy::Salvage { has_backup: true } => {
            "save its readable blocks, and add those of the backup; points deleted since then are restored too".to_owned()
        }
        Remedy::Salvage { has_backup: false } => "save its readable blocks".to_owned(),
        Remedy::MakeAgain => "take it out; its windows are made again from points, but those whose points have expired are lost".to_owned(),
        Remedy::TakeOut => "take it out of the store".to_owned(),
        Remedy::NeedsBackup => "nothing can be done without a backup: name one with --from".to_owned(),
        Remedy::AcceptLoss => {
            format!("it is not in a backup named here: start the service, and accept the loss with `fenetre storage accept-loss {file}`")
        }
    }
}
