//! The typed client: a function per call, with the types of the API.

pub mod connect;
pub mod flows;
mod pinned;

use std::time::Duration;

use fenetre_core::{
    model::{DatasetDefinition, MetricDefinition, RollupPolicy, TagDefinition},
    suggest::hint,
};
use fenetre_formats::{document::AnswerDocument, mapping::Mapping, plan_document::PlanDocument};
use fenetre_wire::{
    access::{CallerInfo, ChangePage, CreatedToken, RotateOrder, TokenInfo, TokenOrder},
    ask::Question,
    backup::{BackupOrder, BackupState},
    bin::{BinItemInfo, Deletion, PointsOrder, Restore},
    datasets::{DatasetInfo, Defined, DefinedMetric, MetricInfo, Reference, Rename, Renamed, TagInfo},
    definitions::{Differences, MetricDefinitions},
    imports::{ImportLook, ImportOrder, ImportRecord, LookOrder},
    jobs::JobInfo,
    mappings::MappingInfo,
    problem::Problem,
    retention::{ExpiryOrder, ExpiryPreview, RetentionChange, RetentionInfo, RetentionOrder, WrittenFile},
    rollups::{FillOrder, RollupPreview, RollupsInfo},
    series::{LatestPoint, Page, SeriesInfo},
    storage::{CompactedPartition, FileOrder, MetricStorage, StorageInfo, TidiedDataset, TidyOrder, VerifiedFile},
};
use serde::{Serialize, de::DeserializeOwned};
use ureq::{Agent, Body, http::Response};

use crate::{
    args::Service,
    failure::{FAILED, Failure, UNREACHED},
    profiles::Profile,
};

const BACKUP: &str = "/api/v1/backup";
const TOKENS: &str = "/api/v1/tokens";
/// Maximum size of an answer, in bytes.
const LARGEST_ANSWER: u64 = 2 << 30;
const CONNECT: Duration = Duration::from_secs(5);

/// A connection to one service.
pub struct Client {
    agent: Agent,
    url: String,
}

/// What a page of series is narrowed by.
#[derive(Clone, Debug, Default)]
pub struct SeriesQuery<'a> {
    pub metric: Option<&'a str>,
    pub search: Option<&'a str>,
    pub limit: usize,
}

impl Client {
    /// A client of the service of a profile.
    pub fn by(profile: &Profile) -> Result<Self, Failure> {
        Ok(Self { agent: connect::agent(profile)?, url: profile.url.clone() })
    }

    /// A client of the service that a command line names.
    pub fn of(service: &Service) -> Result<Self, Failure> {
        Self::by(&connect::chosen(service)?)
    }

    pub fn whoami(&self) -> Result<CallerInfo, Failure> {
        self.get("/api/v1/session", &[])
    }

    pub fn tokens(&self) -> Result<Vec<TokenInfo>, Failure> {
        self.get(TOKENS, &[])
    }

    pub fn create_token(&self, order: &TokenOrder) -> Result<CreatedToken, Failure> {
        self.post(TOKENS, order)
    }

    pub fn rotate_token(&self, name: &str, order: &RotateOrder) -> Result<CreatedToken, Failure> {
        self.post(&format!("{TOKENS}/{}/rotate", escaped(name)), order)
    }

    pub fn suspend_token(&self, name: &str) -> Result<TokenInfo, Failure> {
        self.post(&format!("{TOKENS}/{}/suspend", escaped(name)), &())
    }

    pub fn resume_token(&self, name: &str) -> Result<TokenInfo, Failure> {
        self.post(&format!("{TOKENS}/{}/resume", escaped(name)), &())
    }

    pub fn revoke_token(&self, name: &str) -> Result<TokenInfo, Failure> {
        let path = format!("{TOKENS}/{}", escaped(name));
        Ok(self.read(self.agent.delete(format!("{}{path}", self.url)).call(), &path)?)
    }

    pub fn changes(&self, parameters: &[(&str, &str)]) -> Result<ChangePage, Failure> {
        self.get("/api/v1/changes", parameters)
    }

    pub fn datasets(&self) -> Result<Vec<DatasetInfo>, Failure> {
        self.get("/api/v1/datasets", &[])
    }

    pub fn secrets(&self) -> Result<Vec<fenetre_wire::secrets::SecretInfo>, Failure> {
        self.get("/api/v1/secrets", &[])
    }

    pub fn put_secret(&self, name: &str, value: &str) -> Result<Defined, Failure> {
        let path = format!("/api/v1/secrets/{}", escaped(name));
        let request = self.agent.put(format!("{}{path}", self.url)).header("Content-Type", "text/plain");
        Ok(self.read(request.send(value), &path)?)
    }

    pub fn remove_secret(&self, name: &str) -> Result<(), Failure> {
        self.delete_for_nothing(&format!("/api/v1/secrets/{}", escaped(name)))
    }

    pub fn pushing_callers(&self) -> Result<Vec<fenetre_wire::sources::PushingCaller>, Failure> {
        self.get("/api/v1/pushing-callers", &[])
    }

    pub fn jobs(&self) -> Result<Vec<JobInfo>, Failure> {
        self.get("/api/v1/jobs", &[])
    }

    pub fn put_dataset(&self, name: &str, definition: &DatasetDefinition) -> Result<Defined, Failure> {
        self.put(&format!("/api/v1/datasets/{}", escaped(name)), definition)
    }

    pub fn metrics(&self, dataset: &str) -> Result<Vec<MetricInfo>, Failure> {
        self.get(&format!("/api/v1/datasets/{}/metrics", escaped(dataset)), &[])
    }

    /// Defines a metric; `how` says what happens to its points, as parameters of the call.
    pub fn put_metric(&self, dataset: &str, name: &str, definition: &MetricDefinition, how: &str) -> Result<DefinedMetric, Failure> {
        self.put(&format!("/api/v1/datasets/{}/metrics/{}{how}", escaped(dataset), escaped(name)), definition)
    }

    pub fn tags(&self, dataset: &str, metric: Option<&str>) -> Result<Vec<TagInfo>, Failure> {
        let parameters: Vec<(&str, &str)> = metric.map(|metric| ("metric", metric)).into_iter().collect();
        self.get(&format!("/api/v1/datasets/{}/tags", escaped(dataset)), &parameters)
    }

    pub fn series(&self, dataset: &str, query: &SeriesQuery<'_>) -> Result<Page<SeriesInfo>, Failure> {
        self.page(dataset, "series", query)
    }

    pub fn latest(&self, dataset: &str, query: &SeriesQuery<'_>) -> Result<Page<LatestPoint>, Failure> {
        self.page(dataset, "latest", query)
    }

    pub fn put_metrics(&self, dataset: &str, definitions: &MetricDefinitions) -> Result<Differences, Failure> {
        self.post(&format!("/api/v1/datasets/{}/metrics", escaped(dataset)), definitions)
    }

    /// Copies the definitions of all metrics as a table.
    pub fn definitions(&self, dataset: &str, out: &mut dyn std::io::Write) -> Result<(), Failure> {
        self.stream(&format!("/api/v1/datasets/{}/definitions.csv", escaped(dataset)), &[], |body| std::io::copy(body, out).map(|_| ()))
    }

    pub fn put_definitions(&self, dataset: &str, table: &[u8], dry_run: bool) -> Result<Differences, Failure> {
        let path = format!("/api/v1/datasets/{}/definitions.csv", escaped(dataset));
        let request = self.agent.post(format!("{}{path}", self.url)).query("dry_run", dry_run.to_string());
        Ok(self.read(request.header("Content-Type", "text/csv").send(table), &path)?)
    }

    pub fn put_tag(&self, dataset: &str, key: &str, definition: &TagDefinition) -> Result<Defined, Failure> {
        self.put(&format!("/api/v1/datasets/{}/tags/{}", escaped(dataset), escaped(key)), definition)
    }

    pub fn rename_dataset(&self, old: &str, to: String) -> Result<Renamed, Failure> {
        self.post(&format!("/api/v1/datasets/{}/rename", escaped(old)), &Rename { to })
    }

    pub fn rename_metric(&self, dataset: &str, old: &str, to: String) -> Result<Renamed, Failure> {
        self.post(&format!("/api/v1/datasets/{}/metrics/{}/rename", escaped(dataset), escaped(old)), &Rename { to })
    }

    pub fn rename_tag(&self, dataset: &str, old: &str, to: String) -> Result<Renamed, Failure> {
        self.post(&format!("/api/v1/datasets/{}/tags/{}/rename", escaped(dataset), escaped(old)), &Rename { to })
    }

    pub fn references(&self, dataset: &str, metric: &str) -> Result<Vec<Reference>, Failure> {
        self.get(&format!("/api/v1/datasets/{}/references", escaped(dataset)), &[("metric", metric)])
    }

    pub fn delete_metric(&self, dataset: &str, name: &str, dry_run: bool) -> Result<Deletion, Failure> {
        let path = format!("/api/v1/datasets/{}/metrics/{}", escaped(dataset), escaped(name));
        let sent = self.agent.delete(format!("{}{path}", self.url)).query("dry_run", dry_run.to_string()).call();
        Ok(self.read(sent, &path)?)
    }

    pub fn delete_points(&self, dataset: &str, order: &PointsOrder) -> Result<Deletion, Failure> {
        self.post(&format!("/api/v1/datasets/{}/points/delete", escaped(dataset)), order)
    }

    pub fn bin(&self) -> Result<Vec<BinItemInfo>, Failure> {
        self.get("/api/v1/bin", &[])
    }

    pub fn restore_binned(&self, id: &str, name: Option<String>) -> Result<(), Failure> {
        self.post_for_nothing(&format!("/api/v1/bin/{}/restore", escaped(id)), &Restore { name })
    }

    pub fn erase_binned(&self, id: &str) -> Result<(), Failure> {
        self.delete_for_nothing(&format!("/api/v1/bin/{}", escaped(id)))
    }

    pub fn retention(&self, dataset: Option<&str>) -> Result<RetentionInfo, Failure> {
        let parameters: Vec<(&str, &str)> = dataset.map(|dataset| ("dataset", dataset)).into_iter().collect();
        self.get("/api/v1/retention", &parameters)
    }

    pub fn set_retention(&self, order: &RetentionOrder) -> Result<RetentionChange, Failure> {
        self.post("/api/v1/retention", order)
    }

    pub fn write_retention(&self) -> Result<WrittenFile, Failure> {
        self.post("/api/v1/retention/write-file", &())
    }

    pub fn expire(&self, order: &ExpiryOrder) -> Result<ExpiryPreview, Failure> {
        self.post("/api/v1/expire", order)
    }

    pub fn rollups(&self, dataset: &str, measure: bool) -> Result<RollupsInfo, Failure> {
        self.get(&format!("/api/v1/datasets/{}/rollups", escaped(dataset)), &[("measure", if measure { "true" } else { "false" })])
    }

    /// `accept_loss` permits the loss of rollups whose points have expired.
    pub fn put_rollup(&self, dataset: &str, name: &str, policy: &RollupPolicy, accept_loss: bool) -> Result<Defined, Failure> {
        self.put(&format!("/api/v1/datasets/{}/rollups/{}?accept_loss={accept_loss}", escaped(dataset), escaped(name)), policy)
    }

    pub fn preview_rollup(&self, dataset: &str, name: &str, policy: &RollupPolicy) -> Result<RollupPreview, Failure> {
        self.post(&format!("/api/v1/datasets/{}/rollups/preview?name={}", escaped(dataset), escaped(name)), policy)
    }

    pub fn fill_rollups(&self, dataset: &str, stop: bool) -> Result<RollupsInfo, Failure> {
        self.post(&format!("/api/v1/datasets/{}/rollups/fill", escaped(dataset)), &FillOrder { stop })
    }

    pub fn drop_rollup(&self, dataset: &str, name: &str, accept_loss: bool) -> Result<(), Failure> {
        self.delete_for_nothing(&format!("/api/v1/datasets/{}/rollups/{}?accept_loss={accept_loss}", escaped(dataset), escaped(name)))
    }

    pub fn metric_sizes(&self) -> Result<Vec<MetricStorage>, Failure> {
        self.get("/api/v1/storage/top", &[])
    }

    pub fn verify(&self, order: &FileOrder) -> Result<VerifiedFile, Failure> {
        self.post("/api/v1/storage/verify", order)
    }

    pub fn tidy(&self, dataset: &str) -> Result<TidiedDataset, Failure> {
        self.post("/api/v1/storage/tidy", &TidyOrder { dataset: dataset.to_owned() })
    }

    pub fn accept_loss(&self, order: &FileOrder) -> Result<(), Failure> {
        self.post_for_nothing("/api/v1/storage/accept-loss", order)
    }

    pub fn compact(&self, order: &FileOrder) -> Result<CompactedPartition, Failure> {
        self.post("/api/v1/storage/compact", order)
    }

    pub fn mappings(&self) -> Result<Vec<MappingInfo>, Failure> {
        self.get("/api/v1/mappings", &[])
    }

    pub fn mapping(&self, name: &str) -> Result<Mapping, Failure> {
        self.get(&format!("/api/v1/mappings/{}", escaped(name)), &[])
    }

    pub fn put_mapping(&self, name: &str, mapping: &Mapping) -> Result<Defined, Failure> {
        self.put(&format!("/api/v1/mappings/{}", escaped(name)), mapping)
    }

    pub fn remove_mapping(&self, name: &str) -> Result<(), Failure> {
        self.delete_for_nothing(&format!("/api/v1/mappings/{}", escaped(name)))
    }

    pub fn imports(&self) -> Result<Vec<ImportRecord>, Failure> {
        self.get("/api/v1/imports", &[])
    }

    pub fn import(&self, id: &str) -> Result<ImportRecord, Failure> {
        self.get(&format!("/api/v1/imports/{}", escaped(id)), &[])
    }

    /// Sends a file, to be imported.
    pub fn upload(&self, dataset: &str, parameters: &[(&str, &str)], file: &mut dyn std::io::Read) -> Result<ImportRecord, Failure> {
        let path = format!("/api/v1/datasets/{}/imports", escaped(dataset));
        let request = self.agent.post(format!("{}{path}", self.url)).query_pairs(parameters.iter().copied());
        let sent = request.header("Content-Type", "application/octet-stream").send(ureq::SendBody::from_reader(file));
        Ok(self.read(sent, &path)?)
    }

    pub fn look_at_import(&self, id: &str, order: &LookOrder) -> Result<ImportLook, Failure> {
        self.post(&format!("/api/v1/imports/{}/look", escaped(id)), order)
    }

    /// Runs an import; without an order, resumes it as it was begun.
    pub fn run_import(&self, id: &str, order: Option<&ImportOrder>) -> Result<ImportRecord, Failure> {
        let path = format!("/api/v1/imports/{}/run", escaped(id));
        match order {
            Some(order) => self.post(&path, order),
            None => Ok(self.read(self.agent.post(format!("{}{path}", self.url)).send_empty(), &path)?),
        }
    }

    pub fn stop_import(&self, id: &str) -> Result<ImportRecord, Failure> {
        let path = format!("/api/v1/imports/{}/stop", escaped(id));
        Ok(self.read(self.agent.post(format!("{}{path}", self.url)).send_empty(), &path)?)
    }

    pub fn forget_import(&self, id: &str) -> Result<(), Failure> {
        self.delete_for_nothing(&format!("/api/v1/imports/{}", escaped(id)))
    }

    /// Copies the rejects of an import.
    pub fn rejects(&self, id: &str, out: &mut dyn std::io::Write) -> Result<(), Failure> {
        let path = format!("/api/v1/imports/{}/rejects", escaped(id));
        self.stream(&path, &[], |body| std::io::copy(body, out).map(|_| ()))
    }

    /// Hands the lines of what arrives to `each`, until that says to end.
    pub fn tail(&self, dataset: Option<&str>, mut each: impl FnMut(&str) -> bool) -> Result<(), Failure> {
        let parameters: Vec<(&str, &str)> = dataset.map(|dataset| ("dataset", dataset)).into_iter().collect();
        self.stream("/api/v1/arrivals/tail", &parameters, |body| {
            let mut lines = std::io::BufRead::lines(std::io::BufReader::new(body));
            while let Some(line) = lines.next().transpose()? {
                if !each(&line) {
                    break;
                }
            }
            Ok(())
        })
    }

    fn stream(
        &self,
        path: &str,
        parameters: &[(&str, &str)],
        take: impl FnOnce(&mut dyn std::io::Read) -> std::io::Result<()>,
    ) -> Result<(), Failure> {
        let request = self.agent.get(format!("{}{path}", self.url)).query_pairs(parameters.iter().copied());
        let mut response = request.call().map_err(|error| Failure::from(self.unreached(&error)))?;
        if !response.status().is_success() {
            return Ok(self.read::<()>(Ok(response), path)?);
        }
        Ok(take(&mut response.body_mut().as_reader())?)
    }

    pub fn storage(&self) -> Result<StorageInfo, Failure> {
        self.get("/api/v1/storage", &[])
    }

    pub fn begin_backup(&self, order: &BackupOrder) -> Result<BackupState, Failure> {
        self.post(BACKUP, order)
    }

    pub fn backup(&self) -> Result<BackupState, Failure> {
        self.get(BACKUP, &[])
    }

    pub fn stop_backup(&self) -> Result<BackupState, Failure> {
        Ok(self.read(self.agent.delete(format!("{}{BACKUP}", self.url)).call(), BACKUP)?)
    }

    pub fn ask(&self, dataset: &str, question: &Question) -> Result<AnswerDocument, Failure> {
        let path = format!("/api/v1/datasets/{}/ask", escaped(dataset));
        self.post(&path, question)
    }

    pub fn explain(&self, dataset: &str, question: &Question) -> Result<PlanDocument, Failure> {
        let path = format!("/api/v1/datasets/{}/ask/explain", escaped(dataset));
        self.post(&path, question)
    }

    /// Pushes a body of some content type; `parameters` are those of the call.
    #[cfg(feature = "service")]
    pub fn push(&self, dataset: &str, kind: &str, parameters: &[(&str, &str)], body: &[u8]) -> Result<fenetre_wire::push::PushReport, Failure> {
        let path = format!("/api/v1/datasets/{}/points", escaped(dataset));
        let request = self.agent.post(format!("{}{path}", self.url)).query_pairs(parameters.iter().copied());
        match self.read(request.header("Content-Type", kind).send(body), &path) {
            Err(Answered::Problem(mut problem)) if problem.report.is_some() => Ok(problem.report.take().map(|report| *report).unwrap_or_default()),
            other => other.map_err(Failure::from),
        }
    }

    fn page<T: DeserializeOwned>(&self, dataset: &str, what: &str, query: &SeriesQuery<'_>) -> Result<Page<T>, Failure> {
        let limit = query.limit.to_string();
        let narrowed = [("metric", query.metric), ("search", query.search)];
        let mut parameters: Vec<(&str, &str)> = narrowed.into_iter().filter_map(|(name, value)| Some((name, value?))).collect();
        parameters.push(("limit", &limit));
        self.get(&format!("/api/v1/datasets/{}/{what}", escaped(dataset)), &parameters)
    }

    fn get<T: DeserializeOwned>(&self, path: &str, parameters: &[(&str, &str)]) -> Result<T, Failure> {
        let request = self.agent.get(format!("{}{path}", self.url)).query_pairs(parameters.iter().copied());
        Ok(self.read(request.call(), path)?)
    }

    fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        Ok(self.read(self.agent.post(format!("{}{path}", self.url)).send_json(body), path)?)
    }

    fn post_for_nothing(&self, path: &str, body: &impl Serialize) -> Result<(), Failure> {
        self.nothing(self.agent.post(format!("{}{path}", self.url)).send_json(body), path)
    }

    fn delete_for_nothing(&self, path: &str) -> Result<(), Failure> {
        self.nothing(self.agent.delete(format!("{}{path}", self.url)).call(), path)
    }

    /// An answer without a body.
    fn nothing(&self, sent: Result<Response<Body>, ureq::Error>, path: &str) -> Result<(), Failure> {
        match sent {
            Ok(response) if response.status() == 204 => Ok(()),
            other => Ok(self.read::<()>(other, path)?),
        }
    }

    fn put<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        Ok(self.read(self.agent.put(format!("{}{path}", self.url)).send_json(body), path)?)
    }

    fn read<T: DeserializeOwned>(&self, sent: Result<Response<Body>, ureq::Error>, path: &str) -> Result<T, Answered> {
        let mut response = sent.map_err(|error| self.unreached(&error))?;
        let status = response.status();
        let body = response.body_mut().with_config().limit(LARGEST_ANSWER).read_to_vec().map_err(|error| self.unreached(&error))?;
        if status.is_success()
            && let Ok(answer) = serde_json::from_slice(&body)
        {
            return Ok(answer);
        }
        if let Ok(problem) = serde_json::from_slice::<Problem>(&body) {
            return Err(Answered::Problem(Box::new(problem)));
        }
        let text = format!("{}{path} answered ({status}), but not as Fenetre does: is the URL right?", self.url);
        Err(Answered::Failure(Failure::new(UNREACHED, text)))
    }

    fn unreached(&self, error: &ureq::Error) -> Answered {
        let reason = match error {
            ureq::Error::Io(error) if error.kind() == std::io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
            ureq::Error::Rustls(error) => return self.untrusted(&error.to_string()),
            ureq::Error::Io(error) if error.get_ref().is_some_and(|inner| inner.is::<rustls::Error>()) => return self.untrusted(&error.to_string()),
            other => other.to_string(),
        };
        let text = format!("no Fenetre answers at {} ({reason}): start one with `fenetre serve`, or name another with --url", self.url);
        Answered::Failure(Failure::new(UNREACHED, text))
    }

    fn untrusted(&self, reason: &str) -> Answered {
        let text = format!(
            "the certificate at {} is not trusted ({reason}): name its authority with --ca FILE and call the service by a name of the certificate, or name its SHA-256 with --fingerprint",
            self.url
        );
        Answered::Failure(Failure::new(UNREACHED, text))
    }
}

/// How a call failed.
enum Answered {
    Problem(Box<Problem>),
    Failure(Failure),
}

impl From<Answered> for Failure {
    fn from(answered: Answered) -> Self {
        match answered {
            Answered::Failure(failure) => failure,
            Answered::Problem(problem) => match problem.word() {
                "no-dataset" => Self::new(
                    FAILED,
                    format!("{}; choose one with --dataset (or FENETRE_DATASET), or create it with `fenetre datasets define NAME`", problem.detail),
                ),
                _ => (*problem).into(),
            },
        }
    }
}

/// Those of a list that are of one dataset, where one is asked for.
pub fn only<T>(mut list: Vec<T>, dataset: Option<&str>, name: impl Fn(&T) -> &str) -> Result<Vec<T>, Failure> {
    let Some(wanted) = dataset else { return Ok(list) };
    if !list.iter().any(|item| name(item) == wanted) {
        let hint = hint(wanted, list.iter().map(&name), 10);
        return Err(Failure::new(FAILED, format!("there is no dataset `{wanted}`: {hint}")));
    }
    list.retain(|item| name(item) == wanted);
    Ok(list)
}

/// A name as part of a path.
fn escaped(name: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.' | b'~' | b':');
    name.bytes().map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }).collect()
}
