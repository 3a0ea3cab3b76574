//! Background jobs.

use std::time::SystemTime;

use actix_web::{get, web};
use fenetre_access::grant::Action;
use fenetre_core::time::{Nanos, format_utc};
use fenetre_jobs::{Figures, Phase};
use fenetre_wire::jobs::{JobInfo, JobPhase};

use crate::{
    permission::{Access, AnyGrant},
    problem::Problem,
    state::AppState,
};

/// Lists the jobs that run in the background.
///
/// They write points to the journal (`committer`), turn them into blocks (`packer`), merge blocks (`compactor`), make rollups (`roller`), and
/// apply retention (`upkeep`), and notice changed tokens and certificates (`access`). Imports and backups are listed while they run.
#[utoipa::path(security(("token" = [])), tag = "store", responses((status = 200, body = [JobInfo]), (status = 403, body = Problem)))]
#[get("/api/v1/jobs")]
pub(crate) async fn list(caller: Access<AnyGrant>, state: AppState) -> web::Json<Vec<JobInfo>> {
    // Jobs work for all datasets, and their errors name them.
    if !caller.may_everywhere(Action::Read) {
        return web::Json(Vec::new());
    }
    let all = state.store.jobs().into_iter().chain(state.sources.jobs()).chain(state.sinks.jobs()).chain(state.jobs.figures());
    web::Json(all.map(info).collect())
}

fn info(figures: Figures) -> JobInfo {
    let Figures { name, phase, since, steps, worked, failures, last_error, next } = figures;
    let (last_error, last_error_at) = last_error.map(|(error, at)| (error, text(at))).unzip();
    let phase = match phase {
        Phase::Working => JobPhase::Working,
        Phase::Resting => JobPhase::Resting,
        Phase::Retrying => JobPhase::Retrying,
        Phase::Ended => JobPhase::Ended,
    };
    JobInfo {
        name,
        phase,
        since: text(since),
        steps,
        worked_seconds: worked.as_secs_f64(),
        failures,
        last_error,
        last_error_at,
        next: next.map(text),
    }
}

/// An instant of the system as text.
pub fn text(at: SystemTime) -> String {
    let passed = at.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    format_utc(Nanos::try_from(passed.as_nanos()).unwrap_or(Nanos::MAX))
}
