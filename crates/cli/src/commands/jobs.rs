//! `fenetre jobs`: work in the background of the service.

use fenetre_wire::jobs::{JobInfo, JobPhase};

use crate::{
    args::JobsArgs,
    client::Client,
    failure::Failure,
    output::{
        list::{Column, write},
        words::{grouped, utc},
    },
};

/// Lists the jobs.
pub fn run(args: &JobsArgs) -> Result<(), Failure> {
    write(&Client::of(&args.service)?.jobs()?, &columns(), args.output)
}

fn columns() -> Vec<Column<JobInfo>> {
    let plain = |name, plain| Column { name, right: false, text: plain, plain };
    vec![
        plain("job", |job: &JobInfo| job.name.clone()),
        plain("state", |job: &JobInfo| job.phase.as_str().to_owned()),
        Column { name: "since", right: false, text: |job| utc(Some(&job.since)), plain: |job| job.since.clone() },
        Column { name: "steps", right: true, text: |job| grouped(job.steps), plain: |job| job.steps.to_string() },
        Column { name: "worked (s)", right: true, text: |job| format!("{:.1}", job.worked_seconds), plain: |job| job.worked_seconds.to_string() },
        Column { name: "next try", right: false, text: next_try, plain: |job| job.next.clone().unwrap_or_default() },
        plain("last error", |job: &JobInfo| job.last_error.clone().unwrap_or_default()),
    ]
}

/// When a job that failed tries again.
fn next_try(job: &JobInfo) -> String {
    if job.phase == JobPhase::Retrying { utc(job.next.as_ref()) } else { String::new() }
}
