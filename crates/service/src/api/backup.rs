//! Backups of the live store: one at a time, begun, looked at and stopped by calls of their own, since a large one takes long.

use std::{convert::Infallible, path::PathBuf, sync::Arc};

use actix_web::{HttpResponse, delete, get, post, web};
use fenetre_access::change::{Act, Subject};
use fenetre_jobs::Job;
use fenetre_store::BackupChoice;
use fenetre_wire::backup::{BackupOrder, BackupState};

use crate::{
    api::{Body, read_json},
    backups::Run,
    changes::Recorded,
    permission::{Access, AdminGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
};

/// Starts a backup of all acknowledged points into a folder on the machine of the service.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "store", request_body = BackupOrder,
    responses((status = 202, body = BackupState), (status = 400, body = Problem), (status = 403, body = Problem),
        (status = 409, body = Problem, description = "one is running")))]
#[post("/api/v1/backup")]
pub(crate) async fn begin(caller: Access<AdminGrant>, state: AppState, body: Body) -> Result<HttpResponse, ApiError> {
    let BackupOrder { to, since, with_secrets } = read_json(&body)?;
    let folder = PathBuf::from(&to);
    let since = since.map(PathBuf::from);
    if [Some(&folder), since.as_ref()].into_iter().flatten().any(|path| !path.is_absolute()) {
        return Err(ApiError::new(ProblemKind::Request, "the folders of a backup must be absolute paths, such as /var/backups/fenetre"));
    }
    let caller = caller.into_caller();
    let place = to.clone();
    let run = state.backups.begin(to).map_err(|other| {
        let text = format!("a backup to {} is running, {} of {} files done: wait for it, or stop it", other.to, other.done, other.files);
        ApiError::new(ProblemKind::Definition, text)
    })?;
    let progress = run.state();
    let shared = Arc::clone(&state);
    let own = Arc::clone(&run);
    let work = move |job: &Job| {
        let choice = BackupChoice { since: since.as_deref(), with_secrets };
        let outcome = shared.store.backup(&folder, choice, &mut |progress| {
            own.progress(progress);
            !job.is_stopping()
        });
        own.end(outcome);
        Ok::<_, Infallible>(())
    };
    run.set_job(state.jobs.run("backup", work).map_err(|error| ApiError::internal(&error))?);
    let record = move |state: &State| Recorded::new(&caller, Subject::Backup, Act::Started, place).write(state, None, None);
    blocking(&state, record).await?;
    Ok(HttpResponse::Accepted().json(progress))
}

/// Returns the progress of the latest backup.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "store", responses((status = 200, body = BackupState), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/backup")]
pub(crate) async fn look(_: Access<AdminGrant>, state: AppState) -> Result<web::Json<BackupState>, ApiError> {
    latest(&state).map(|run| web::Json(run.state()))
}

/// Stops the running backup after the current file.
///
/// The same call of `POST` continues it.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "store", responses((status = 200, body = BackupState), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[delete("/api/v1/backup")]
pub(crate) async fn stop(caller: Access<AdminGrant>, state: AppState) -> Result<web::Json<BackupState>, ApiError> {
    let run = latest(&state)?;
    run.stop();
    let (caller, place) = (caller.into_caller(), run.state().to);
    blocking(&state, move |state| Recorded::new(&caller, Subject::Backup, Act::Stopped, place).write(state, None, None)).await?;
    Ok(web::Json(run.state()))
}

fn latest(state: &AppState) -> Result<Arc<Run>, ApiError> {
    let none = || ApiError::new(ProblemKind::NotFound, "no backup was made since the service started");
    state.backups.latest().ok_or_else(none)
}
