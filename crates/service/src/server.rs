//! Start, ready, stop.

use std::{io, net::SocketAddr, sync::Arc, time::Duration};

use actix_http::HttpService;
use actix_server::Server;
use actix_service::{IntoServiceFactory, ServiceFactoryExt, fn_service, map_config};
use actix_tls::accept::rustls_0_23::TlsStream;
use actix_web::{
    App, HttpServer,
    dev::{AppConfig, ServerHandle},
    middleware,
    rt::net::TcpStream,
    web,
};
use fenetre_access::{AccessError, records::Records, registry::Registry};
use fenetre_flows::{
    FlowError,
    arrivals::{Arrivals, tail::Tail},
    intake::Intake,
    sinks::supervisor::Sinks,
    supervisor::Sources,
};
use fenetre_jobs::Jobs;
use fenetre_store::{Store, StoreError};
use tokio::{
    signal::unix::{SignalKind, signal},
    sync::Notify,
};
use utoipa_actix_web::AppExt;

use crate::{
    access::gate::Gate,
    api,
    backups::Backups,
    clock::{ClockWatch, now},
    config::Config,
    http::{budget::Budget, connection, console, finish::finish, lanes::Lanes, openapi},
    imports::Imports,
    jobs::{access, own, upkeep},
    logging, memory,
    problem::{ApiError, ProblemKind},
    state::State,
    tls::{
        certificate::{Certificate, CertificateError},
        listener,
    },
    views,
    warnings::Warnings,
};

/// Folder of the store for batches that destinations refused.
const ASIDE: &str = "aside";
/// How long calls that are under way may take to end when the service stops.
const LAST_CALLS: u64 = 10;
const STALLED_CLIENT: Duration = Duration::from_secs(30);

/// The application: every call, then the console. A macro, because its type cannot be named.
macro_rules! app {
    ($state:expr) => {{
        let (app, document) = App::new().into_utoipa_app().openapi(openapi::description()).app_data($state).configure(api::mount).split_for_parts();
        // It is made of texts and numbers, which always have a JSON form.
        let calls = web::Data::new(openapi::Calls::of(&document).unwrap_or_default());
        app.app_data(web::QueryConfig::default().error_handler(|error, _| bad_parameters(&error).into()))
            .app_data(calls)
            .wrap(middleware::from_fn(finish))
            .wrap(middleware::Compress::default())
            .route(openapi::PATH, web::get().to(api::description::show))
            .default_service(web::to(console::serve))
    }};
}

/// Why the service did not start, or ended.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// The store cannot be opened.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The certificate cannot be used.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// The records of tokens and changes cannot be used.
    #[error(transparent)]
    Access(#[from] AccessError),
    /// A source cannot be started.
    #[error("a source cannot be started: {0}")]
    Source(#[from] FlowError),
    /// The process may not use as much memory as the configuration allows.
    #[error("{0}")]
    Memory(String),
    /// Somebody else listens there.
    #[error(
        "the address {address} is already in use: stop the program that listens there, or choose another address with --listen or with `address` under [listen]"
    )]
    AddressTaken {
        /// Where.
        address: SocketAddr,
    },
    /// It cannot listen there, or the network failed.
    #[error("cannot listen on {address}: {source}")]
    Listen {
        /// Where.
        address: SocketAddr,
        /// Why not.
        source: io::Error,
    },
}

/// A service that answers.
pub struct Ready {
    /// The address it listens on, with the real port if 0 was requested.
    pub address: SocketAddr,
    /// Whether it speaks TLS.
    pub is_secure: bool,
    stopper: Stopper,
}

impl Ready {
    /// Lets calls that are under way end, then stops. `serve` returns after that.
    pub fn stop(&self) {
        // The stop begins when this is called; `serve` waits for its end.
        drop(self.stopper.stop());
    }
}

/// Stops the service, by call or by signal.
#[derive(Clone)]
struct Stopper {
    handle: ServerHandle,
    state: web::Data<State>,
    /// Connections that wait for another call are closed then.
    stopping: Arc<Notify>,
}

impl Stopper {
    fn stop(&self) -> impl Future<Output = ()> {
        tracing::info!("stopping");
        // A live tail has no end of its own.
        self.state.intake.tail.end();
        self.stopping.notify_waiters();
        self.handle.stop(true)
    }
}

/// Serves until SIGTERM, SIGINT, or [`Ready::stop`]. `ready` is called once it answers.
///
/// # Errors
/// [`ServeError`] if it cannot start.
pub fn serve(config: &Config, ready: impl FnOnce(Ready)) -> Result<(), ServeError> {
    logging::init(config);
    if let Some(too_little) = memory::too_little(config) {
        return Err(ServeError::Memory(too_little));
    }
    let listener = std::net::TcpListener::bind(config.address).map_err(|source| match source.kind() {
        io::ErrorKind::AddrInUse => ServeError::AddressTaken { address: config.address },
        _ => ServeError::Listen { address: config.address, source },
    })?;
    let certificate = config.tls.as_ref().map(|files| Certificate::open(files, now())).transpose()?.map(Arc::new);
    let server_config = certificate.as_ref().map(|certificate| certificate.server_config()).transpose()?;
    let store = Arc::new(Store::open(&config.store, config.store_options.clone())?);
    let intake =
        Arc::new(Intake { store: Arc::clone(&store), arrivals: Arrivals::default(), tail: Tail::default(), max_future: config.limits.max_future });
    let gate = Gate::new(Registry::open(Records::open(&config.store)?)?, config.proxies.clone(), config.is_open());
    if !gate.is_open() && !gate.registry.has_tokens(now()) {
        tracing::warn!(
            "callers need a token, and there is none: create one with `fenetre token create NAME --grant admin --store {}`",
            config.store.display()
        );
    }
    let imports = Imports::open(&config.store).map_err(|source| ServeError::Listen { address: config.address, source })?;
    let clock = ClockWatch::open(&store).map_err(|problem| failed_to_start(config.address, problem))?;
    let threads = std::thread::available_parallelism().map_or(2, usize::from);
    let state = web::Data::new(State {
        store,
        sources: Sources::new(Arc::clone(&intake), now),
        sinks: Sinks::new(Arc::clone(&intake.store), config.store.join(ASIDE), now),
        intake,
        gate,
        certificate,
        changes_keep: config.access.changes_keep,
        limits: config.limits,
        config_file: config.file.clone(),
        bodies: Budget::new(config.limits.max_total_body_bytes),
        backups: Backups::default(),
        imports,
        started: now(),
        clock,
        warnings: Warnings::default(),
        jobs: Jobs::default(),
        lanes: Lanes::new(threads).map_err(|error| failed_to_start(config.address, error))?,
    });
    let address = listener.local_addr().map_err(|source| ServeError::Listen { address: config.address, source })?;
    let failed = |source| ServeError::Listen { address, source };
    let all: std::sync::Arc<State> = state.clone().into_inner();
    all.imports.resume(&all);
    views::retention::log_differences(&all);
    upkeep::start(&all).map_err(|source| ServeError::Listen { address: config.address, source })?;
    all.sources.start()?;
    all.sinks.start()?;
    access::start(&all).map_err(|source| ServeError::Listen { address: config.address, source })?;
    if let Some(every) = config.own_every {
        own::start(&all, every).map_err(failed)?;
    }
    let (shared, ended) = (state.clone(), state.clone());
    let served = actix_web::rt::System::new().block_on(async move {
        let stopping = Arc::new(Notify::new());
        let is_secure = server_config.is_some();
        let server = match server_config {
            None => HttpServer::new(move || app!(shared.clone()))
                .workers(threads)
                .shutdown_timeout(LAST_CALLS)
                .client_request_timeout(STALLED_CLIENT)
                .on_connect(connection::remember)
                .disable_signals()
                .listen(listener)?
                .run(),
            Some(tls) => {
                let stopping = Arc::clone(&stopping);
                let service = move || {
                    let stopping = Arc::clone(&stopping);
                    let app = app!(shared.clone()).into_factory().map_err(|error: actix_web::Error| error.error_response());
                    let http = HttpService::build()
                        .client_request_timeout(STALLED_CLIENT)
                        .graceful_shutdown_signal(move || {
                            let stopping = Arc::clone(&stopping);
                            async move { stopping.notified().await }
                        })
                        .on_connect_ext(|stream: &TlsStream<TcpStream>, data: &mut _| connection::remember(stream, data))
                        .finish(map_config(app, |_| AppConfig::default()))
                        .rustls_0_23(tls.clone());
                    fn_service(listener::admit).and_then(http)
                };
                Server::build().workers(threads).shutdown_timeout(LAST_CALLS).disable_signals().listen("fenetre", listener, service)?.run()
            }
        };
        let stopper = Stopper { handle: server.handle(), state: ended, stopping };
        stop_on_signal(stopper.clone())?;
        tracing::info!(%address, is_secure, "ready");
        ready(Ready { address, is_secure, stopper });
        server.await
    });
    state.sources.end();
    state.sinks.end();
    state.jobs.end();
    access::finish(&state);
    served.map_err(failed)?;
    tracing::info!("stopped; all acknowledged points are stored");
    Ok(())
}

/// SIGTERM and SIGINT alike let calls that are under way end. They are watched from here on, before the service is reported as ready.
fn stop_on_signal(stopper: Stopper) -> io::Result<()> {
    let (mut terminate, mut interrupt) = (signal(SignalKind::terminate())?, signal(SignalKind::interrupt())?);
    let (mut renewed, state) = (signal(SignalKind::hangup())?, stopper.state.clone());
    actix_web::rt::spawn(async move {
        while renewed.recv().await.is_some() {
            let state = state.clone();
            // Files are read, which must not hold up a worker.
            let _ = web::block(move || state.certificate.iter().for_each(|certificate| certificate.refresh(now(), true))).await;
        }
    });
    actix_web::rt::spawn(async move {
        tokio::select! {
            _ = terminate.recv() => {}
            _ = interrupt.recv() => {}
        }
        stopper.stop().await;
    });
    Ok(())
}

fn failed_to_start(address: SocketAddr, error: impl std::error::Error + Send + Sync + 'static) -> ServeError {
    ServeError::Listen { address, source: io::Error::other(error) }
}

fn bad_parameters(error: &dyn std::fmt::Display) -> ApiError {
    let text = error.to_string();
    let reason = text.strip_prefix("Query deserialize error: ").unwrap_or(&text);
    ApiError::new(ProblemKind::Request, format!("the parameters cannot be read: {reason}"))
}
