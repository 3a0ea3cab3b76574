//! Backups of the live store: one at a time, begun, looked at and stopped by calls of their own, since a large one takes long.

use std::{
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

use actix_web::{HttpResponse, delete, get, post, web};
use fenetre_store::{BackupProgress, BackupReport, StoreError};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{
    access::{Access, Operate, Read},
    api::read_json,
    problem::{Problem, Sort},
    state::Shared,
};

/// Where a backup goes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BackupOrder {
    /// A folder on the service's machine, from its root on; empty, missing, or with a backup that was stopped.
    pub to: String,
    /// An earlier backup, whose unchanged partitions are not copied again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
}

/// How far the latest backup is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BackupState {
    /// Its folder.
    pub to: String,
    /// What became of it.
    pub stage: BackupStage,
    /// Files that are done.
    pub done: u64,
    /// Files in all; 0 until that is known.
    pub files: u64,
    /// Files that were there already, here or in the earlier backup.
    pub kept: u64,
    /// Bytes that were copied.
    pub bytes: u64,
    /// Points in it, once it is done.
    pub points: u64,
    /// Why it failed, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

/// What became of a backup.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum BackupStage {
    /// It goes on.
    Running,
    /// All of it is there.
    Done,
    /// It was told to stop.
    Stopped,
    /// It failed.
    Failed,
}

/// The latest backup.
#[derive(Default)]
pub struct Backups(Mutex<Option<Arc<Run>>>);

struct Run {
    state: Mutex<BackupState>,
    stop: AtomicBool,
}

impl Run {
    fn progress(&self, progress: BackupProgress) -> bool {
        let mut state = self.state.lock();
        (state.done, state.files, state.bytes) = (progress.done as u64, progress.files as u64, progress.bytes);
        !self.stop.load(Ordering::Relaxed)
    }

    fn end(&self, outcome: Result<BackupReport, StoreError>) {
        let mut state = self.state.lock();
        match outcome {
            Ok(report) => {
                tracing::info!(to = state.to, copied = report.copied, kept = report.kept, bytes = report.bytes, "backup done");
                state.stage = BackupStage::Done;
                (state.kept, state.bytes, state.points) = (report.kept as u64, report.bytes, report.points);
            }
            Err(StoreError::Stopped) => state.stage = BackupStage::Stopped,
            Err(error) => {
                tracing::error!(to = state.to, %error, "backup failed");
                state.stage = BackupStage::Failed;
                state.failure = Some(error.to_string());
            }
        }
    }
}

/// Begins a backup of everything that was acknowledged so far, into a folder on the service's machine.
#[utoipa::path(tag = "store", request_body = BackupOrder,
    responses((status = 202, body = BackupState), (status = 400, body = Problem), (status = 403, body = Problem),
        (status = 409, body = Problem, description = "one is running")))]
#[post("/api/v1/backup")]
pub(crate) async fn begin(_: Access<Operate>, state: Shared, body: web::Bytes) -> Result<HttpResponse, Problem> {
    let BackupOrder { to, since } = read_json(&body)?;
    let folder = PathBuf::from(&to);
    let since = since.map(PathBuf::from);
    if [Some(&folder), since.as_ref()].into_iter().flatten().any(|path| !path.is_absolute()) {
        return Err(Problem::new(Sort::Request, "the folders of a backup are written from the root on, such as /var/backups/fenetre"));
    }
    let told = BackupState { to, stage: BackupStage::Running, done: 0, files: 0, kept: 0, bytes: 0, points: 0, failure: None };
    let run = Arc::new(Run { state: Mutex::new(told.clone()), stop: AtomicBool::new(false) });
    {
        let mut latest = state.backups.0.lock();
        if let Some(other) = latest.as_ref().map(|run| run.state.lock().clone()).filter(|other| other.stage == BackupStage::Running) {
            let text = format!("a backup to {} is running, {} of {} files done: wait for it, or stop it", other.to, other.done, other.files);
            return Err(Problem::new(Sort::Definition, text));
        }
        *latest = Some(Arc::clone(&run));
    }
    let shared = Arc::clone(&state);
    let work = move || {
        let since: Option<&Path> = since.as_deref();
        let outcome = shared.store.backup(&folder, since, &mut |progress| run.progress(progress));
        run.end(outcome);
    };
    std::thread::Builder::new().name("backup".into()).spawn(work).map_err(|error| Problem::internal(&error))?;
    Ok(HttpResponse::Accepted().json(told))
}

/// How far the latest backup is.
#[utoipa::path(tag = "store", responses((status = 200, body = BackupState), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/backup")]
pub(crate) async fn look(_: Access<Read>, state: Shared) -> Result<web::Json<BackupState>, Problem> {
    latest(&state).map(|run| web::Json(run.state.lock().clone()))
}

/// Stops the running backup between two files. The same order goes on with it.
#[utoipa::path(tag = "store", responses((status = 200, body = BackupState), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[delete("/api/v1/backup")]
pub(crate) async fn stop(_: Access<Operate>, state: Shared) -> Result<web::Json<BackupState>, Problem> {
    let run = latest(&state)?;
    run.stop.store(true, Ordering::Relaxed);
    let told = run.state.lock().clone();
    Ok(web::Json(told))
}

fn latest(state: &Shared) -> Result<Arc<Run>, Problem> {
    let none = || Problem::new(Sort::NotFound, "no backup was begun since the service started");
    state.backups.0.lock().clone().ok_or_else(none)
}

impl Backups {
    /// Asks a running backup to stop, and waits until it has: the service ends.
    pub fn end(&self) {
        let Some(run) = self.0.lock().clone() else { return };
        run.stop.store(true, Ordering::Relaxed);
        while run.state.lock().stage == BackupStage::Running {
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
    }
}
