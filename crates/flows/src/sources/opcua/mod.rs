//! Nodes of an OPC UA server. The server samples values and sends those that change.

mod bounded;
mod browse;
mod value;

use std::{
    collections::{BTreeMap, HashMap},
    fs::DirBuilder,
    os::unix::fs::DirBuilderExt,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use fenetre_core::{
    model::{About, Cause, PointRef, Refusal},
    time::Nanos,
};
use fenetre_store::Secrets;
use fenetre_wire::sources::SourcePart;
use opcua::{
    client::{Client, ClientBuilder, DataChangeCallback, IdentityToken, MonitoredItem, Password, Session},
    types::{
        DataValue, EndpointDescription, Error, MessageSecurityMode, MonitoredItemCreateRequest, MonitoringMode, MonitoringParameters, NodeId,
        ReadValueId, StatusCode, TimestampsToReturn, UserTokenPolicy, UserTokenType,
    },
};
use tempfile::TempDir;
use tokio::{
    runtime::Runtime,
    sync::mpsc::{Receiver, Sender, channel},
    task::JoinHandle,
    time::timeout,
};

use self::{
    bounded::BoundedConnector,
    browse::Item,
    value::{Held, time_of},
};
use super::{Outcome, Round, Source, drain::drain, gather::Gather};
use crate::{
    definition::{Opcua, Security, duration},
    error::FlowError,
    runtime::{new_runtime, unless_stopped},
};

const DEFAULT_TIMEOUT: Duration = Duration::from_secs(5);
const DEFAULT_SAMPLING: Duration = Duration::from_secs(1);
/// Maximum number of values that wait to be stored.
const MAX_VALUES: usize = 100_000;
/// Maximum number of values of a node that the server keeps between two messages.
const QUEUE: u32 = 100;
/// Maximum number of nodes per subscription request.
const AT_ONCE: usize = 500;
/// Periods without values after which the server sends a sign of life, and after which it forgets the subscription.
const KEEP_ALIVE: u32 = 10;
const LIFETIME: u32 = 100;
/// Largest message of the server, in bytes.
const MAX_MESSAGE: usize = 16 << 20;
/// How long a trial waits for values.
const TRIAL: Duration = Duration::from_secs(5);
/// How long the server is given to hear the end of a session.
const ENDING: Duration = Duration::from_millis(250);
/// Requests that a connection takes: endpoints, session, nodes, subscription.
const REQUESTS: u32 = 6;

/// A source that subscribes to nodes.
pub struct OpcuaSource {
    opcua: Opcua,
    running: Option<Running>,
}

/// A value of an item, and when it arrived.
type Arrived = (usize, DataValue, Nanos);

struct Running {
    session: Arc<Session>,
    ended: JoinHandle<StatusCode>,
    values: Receiver<Arrived>,
    items: Vec<Item>,
    /// The latest bad status of each item that has one.
    bad: BTreeMap<usize, String>,
    inbox: Vec<Arrived>,
    lost: Arc<AtomicU64>,
    _scratch: TempDir,
    // The last field: tasks end after what they use.
    runtime: Runtime,
}

impl OpcuaSource {
    /// A source of a definition that was checked.
    pub fn new(opcua: Opcua) -> Self {
        Self { opcua, running: None }
    }

    fn fault(&self, reason: &str) -> FlowError {
        FlowError::Peer(format!("{}: {reason}", self.opcua.endpoint))
    }

    fn failure(&self, error: &Error) -> FlowError {
        let status = error.status();
        let reason = match status {
            StatusCode::BadTimeout | StatusCode::BadRequestTimeout => {
                return FlowError::Silent(format!("{}: does not answer in time (`timeout`)", self.opcua.endpoint));
            }
            StatusCode::BadCommunicationError | StatusCode::BadConnectionClosed | StatusCode::BadConnectionRejected | StatusCode::BadNotConnected => {
                "there is no connection: nothing listens there, or the server does not speak OPC UA".to_owned()
            }
            StatusCode::BadUserAccessDenied | StatusCode::BadIdentityTokenRejected | StatusCode::BadIdentityTokenInvalid => {
                "the server refused the user: check `user` and `password`".to_owned()
            }
            StatusCode::BadSecurityChecksFailed | StatusCode::BadCertificateUntrusted => {
                let folder = self.opcua.certificates.as_ref().map_or_else(String::new, |folder| format!("{}/", folder.display()));
                format!(
                    "a certificate is not trusted: if the server's is in {folder}rejected, check it and move it to {folder}trusted; the server must trust {folder}own/cert.der"
                )
            }
            other => format!("{error} ({other})"),
        };
        self.fault(&reason)
    }

    fn timeout(&self) -> Duration {
        self.opcua.timeout.map_or(DEFAULT_TIMEOUT, duration)
    }

    fn connect(&self, round: &Round<'_>) -> Result<Running, FlowError> {
        let runtime = new_runtime()?;
        let (sender, values) = channel(MAX_VALUES);
        let lost = Arc::new(AtomicU64::new(0));
        if let Some(folder) = &self.opcua.certificates {
            // The private key is in it.
            let made = DirBuilder::new().recursive(true).mode(0o700).create(folder);
            made.map_err(|error| FlowError::File { action: "make the folder", path: folder.display().to_string(), reason: error.to_string() })?;
        }
        // The library wants a folder, also without security.
        let scratch = tempfile::tempdir().map_err(|error| self.fault(&format!("cannot make a folder for certificates: {error}")))?;
        // The first one makes a key, which is no time of the server's.
        let client = self.client(scratch.path())?;
        let limit = self.timeout() * REQUESTS;
        let connecting =
            async { timeout(limit, self.subscribe(client, sender, Arc::clone(&lost), (round.clock, round.intake.store.secrets()))).await };
        let subscribed = runtime.block_on(unless_stopped(round.stop, connecting))?;
        let silent = || FlowError::Silent(format!("{}: does not answer in time (`timeout`)", self.opcua.endpoint));
        let (session, ended, items, bad) = subscribed.map_err(|_| silent())??;
        round.events.add((round.clock)(), false, format!("connected to {}, {} nodes", self.opcua.endpoint, items.len()));
        Ok(Running { session, ended, values, items, bad, inbox: Vec::new(), lost, _scratch: scratch, runtime })
    }

    fn client(&self, scratch: &Path) -> Result<Client, FlowError> {
        let opcua = &self.opcua;
        let folder = opcua.certificates.as_deref().unwrap_or(scratch);
        let is_secure = opcua.security != Security::None;
        let client = ClientBuilder::new()
            .application_name("Fenetre")
            .application_uri("urn:fenetre")
            .product_uri("urn:fenetre")
            .pki_dir(folder)
            .create_sample_keypair(is_secure)
            .trust_server_certs(false)
            .verify_server_certs(is_secure)
            .session_retry_limit(0)
            .max_message_size(MAX_MESSAGE)
            .request_timeout(self.timeout())
            .client();
        client.map_err(|errors| self.fault(&errors.join("; ")))
    }

    async fn subscribe(
        &self,
        client: Client,
        sender: Sender<Arrived>,
        lost: Arc<AtomicU64>,
        (clock, secrets): (fn() -> Nanos, &Secrets),
    ) -> Result<(Arc<Session>, JoinHandle<StatusCode>, Vec<Item>, BTreeMap<usize, String>), FlowError> {
        let opcua = &self.opcua;
        let (mode, policy) = match opcua.security {
            Security::None => (MessageSecurityMode::None, "None"),
            Security::Sign => (MessageSecurityMode::Sign, "Basic256Sha256"),
            Security::SignAndEncrypt => (MessageSecurityMode::SignAndEncrypt, "Basic256Sha256"),
        };
        let (token, user_policy) = match (&opcua.user, &opcua.password) {
            (Some(user), Some(password)) => {
                let policy = UserTokenPolicy { token_type: UserTokenType::UserName, ..UserTokenPolicy::default() };
                (IdentityToken::UserName(user.clone(), Password(password.read(secrets)?)), policy)
            }
            _ => (IdentityToken::Anonymous, UserTokenPolicy::anonymous()),
        };
        let endpoint: EndpointDescription = (opcua.endpoint.as_str(), policy, mode, user_policy).into();
        let connector = BoundedConnector(opcua.endpoint.clone());
        let endpoints = client.get_endpoints(connector.clone(), &[], &[]).await.map_err(|error| self.failure(&error))?;
        let certificates = Arc::clone(client.certificate_store());
        let session = client.session_builder().with_endpoints(endpoints).connect_to_matching_endpoint(endpoint);
        let session = session.and_then(|session| session.user_identity_token(token).with_connector(connector).build(certificates));
        let (session, events) = session.map_err(|error| self.failure(&error))?;
        let mut ended = events.spawn();
        // If the session cannot be opened, only its loop ends.
        let status = tokio::select! {
            is_connected = session.wait_for_connection() => if is_connected { None } else { Some(StatusCode::BadNotConnected) },
            status = &mut ended => Some(status.unwrap_or(StatusCode::BadNotConnected)),
        };
        if let Some(status) = status {
            return Err(self.failure(&Error::new(status, "the session could not be opened")));
        }
        let found = browse::find(opcua, &session).await.map_err(|error| self.failure(&error))?;
        let without = opcua.nodes.iter().enumerate().find(|(of, _)| found.items.iter().all(|item| item.of != *of));
        if let Some(pattern) = without.and_then(|(_, node)| node.path.as_ref()) {
            let mut roots = found.roots;
            roots.truncate(20);
            return Err(self.fault(&format!("no variable fits the path `{pattern}`; below Objects there are {}", roots.join(", "))));
        }
        // Several items may share a node; it is subscribed to once.
        let mut positions: HashMap<NodeId, Vec<usize>> = HashMap::new();
        let mut nodes: Vec<NodeId> = Vec::new();
        for (at, item) in found.items.iter().enumerate() {
            let of_node = positions.entry(item.node.clone()).or_default();
            if of_node.is_empty() {
                nodes.push(item.node.clone());
            }
            of_node.push(at);
        }
        let of_callback = positions.clone();
        let callback = DataChangeCallback::new(move |value: DataValue, item: &MonitoredItem| {
            for at in of_callback.get(&item.item_to_monitor().node_id).into_iter().flatten() {
                // The queue is emptied before every commit, so it is only full if the server sends without end.
                if sender.try_send((*at, value.clone(), clock())).is_err() {
                    lost.fetch_add(1, Ordering::Relaxed);
                }
            }
        });
        let sampling = opcua.sampling.map_or(DEFAULT_SAMPLING, duration);
        let subscription = session.create_subscription(sampling, LIFETIME, KEEP_ALIVE, 0, 0, true, callback).await;
        let subscription = subscription.map_err(|error| self.failure(&error))?;
        let mut bad = BTreeMap::new();
        for nodes in nodes.chunks(AT_ONCE) {
            let wanted = |node: &NodeId| MonitoredItemCreateRequest {
                item_to_monitor: ReadValueId::from(node.clone()),
                monitoring_mode: MonitoringMode::Reporting,
                requested_parameters: MonitoringParameters {
                    sampling_interval: sampling.as_secs_f64() * 1_000.0,
                    queue_size: QUEUE,
                    discard_oldest: true,
                    ..MonitoringParameters::default()
                },
            };
            let created = session.create_monitored_items(subscription, TimestampsToReturn::Both, nodes.iter().map(wanted).collect()).await;
            for (node, created) in nodes.iter().zip(created.map_err(|error| self.failure(&error))?) {
                if created.result.status_code.is_bad() {
                    let of_node = positions.get(node).into_iter().flatten();
                    bad.extend(of_node.map(|at| (*at, created.result.status_code.to_string())));
                }
            }
        }
        Ok((session, ended, found.items, bad))
    }

    fn store(&self, running: &mut Running, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let mut gather = Gather::new(round, &self.opcua.dataset, &self.opcua.tags)?;
        let mut described = std::collections::HashSet::new();
        for item in running.items.iter().filter(|item| item.unit.is_some()) {
            if described.insert(&item.metric) {
                gather.describe(&item.metric, About { unit: item.unit.as_deref(), ..About::default() });
            }
        }
        for (at, value, arrived) in &running.inbox {
            let item = &running.items[*at];
            let held = Held::of(value);
            gather.read(if let Held::Word(word) = &held { word.len() } else { 8 });
            match &held {
                Held::Bad(status) => {
                    running.bad.insert(*at, status.to_string());
                    continue;
                }
                Held::Unusable(what) => {
                    gather.refuse(Refusal { field: None, reason: format!("the value is {what}"), cause: Cause::Value }, || item.name.clone());
                }
                _ => {}
            }
            running.bad.remove(at);
            let Some(of_point) = held.value() else { continue };
            let tags: Vec<(&str, &str)> = item.tags.iter().map(|(key, value)| (key.as_str(), value.as_str())).collect();
            let point = PointRef { metric: &item.metric, tags: &tags, time: time_of(value, *arrived), value: of_point };
            gather.point(point, || item.name.clone());
        }
        let outcome = gather.keep()?;
        running.inbox.clear();
        Ok(outcome)
    }

    /// What became of each node, or pattern of nodes, of the definition.
    fn parts(&self, running: &Running) -> Vec<SourcePart> {
        let part = |(of, node): (usize, &crate::definition::Node)| {
            let name = node.path.as_ref().map(ToString::to_string).or_else(|| node.id.clone()).unwrap_or_default();
            let count = running.items.iter().filter(|item| item.of == of).count();
            let mut bad = running.bad.iter().filter(|(at, _)| running.items[**at].of == of);
            let failed = bad.clone().count();
            let error =
                bad.next().map(|(at, status)| format!("{failed} of {count} nodes have no good value: {} is {status}", running.items[*at].name));
            SourcePart { name, error, points: (count - failed) as u64, nodes: Some(count as u64), ..SourcePart::default() }
        };
        self.opcua.nodes.iter().enumerate().map(part).collect()
    }
}

impl Source for OpcuaSource {
    fn round(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let mut running = match self.running.take() {
            Some(running) => running,
            None => self.connect(round)?,
        };
        if running.inbox.is_empty() {
            let Running { runtime, values, inbox, items, bad, .. } = &mut running;
            let nodes = items.len() - bad.len();
            runtime.block_on(drain(values, inbox, MAX_VALUES, round.shown.map(|_| TRIAL), |inbox| inbox.len() >= nodes));
        }
        let stored = if running.inbox.is_empty() { Ok(Outcome { is_idle: true, ..Outcome::default() }) } else { self.store(&mut running, round) };
        let lost = running.lost.swap(0, Ordering::Relaxed);
        if lost > 0 {
            round.events.add((round.clock)(), true, format!("{lost} values were lost: the server sends more than can be stored"));
        }
        let parts = self.parts(&running);
        if running.ended.is_finished() && running.inbox.is_empty() {
            round.events.add((round.clock)(), true, format!("{}: the connection ended", self.opcua.endpoint));
        } else {
            self.running = Some(running);
        }
        let outcome = stored?;
        Ok(Outcome { parts, ..outcome })
    }
}

impl Drop for OpcuaSource {
    fn drop(&mut self) {
        if let Some(running) = self.running.take() {
            // Whether the server hears it does not matter.
            let _ = running.runtime.block_on(async { timeout(ENDING, running.session.disconnect()).await.is_ok() });
        }
    }
}
