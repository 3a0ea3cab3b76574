//! Messages of an MQTT broker. They are acknowledged after they were stored.

mod message;

use std::time::{Duration, Instant};

use fenetre_core::time::Nanos;
use tokio::{runtime::Runtime, time::timeout};

use self::message::Decoder;
use super::{Outcome, Round, Source, gather::Gather};
use crate::{
    broker::{Event, Fault, Link, Message, Order, Receipt},
    definition::{Mqtt, Retained, duration},
    error::FlowError,
    runtime::{new_runtime, unless_stopped},
};

/// Maximum number of messages per commit.
const MAX_MESSAGES: usize = 20_000;
/// Maximum size of the messages per commit, in bytes.
const MAX_BYTES: usize = 16 << 20;
/// Maximum time from the arrival of a message to its commit.
const LINGER: Duration = Duration::from_millis(100);
/// If nothing more comes for this time, messages are stored.
const QUIET: Duration = Duration::from_millis(5);
/// Maximum duration of a round without messages; then the source checks whether to stop.
const IDLE: Duration = Duration::from_millis(250);
/// Maximum time to connect and subscribe.
const CONNECTING: Duration = Duration::from_secs(10);
/// Maximum size of a message of a definition without a limit, in bytes.
const DEFAULT_BYTES: u32 = 1_000_000;
/// Bytes above `max_bytes` up to which a message is still read, and rejected.
const READ_ANYWAY: u32 = 16 << 20;
/// How long a broker keeps the session of a definition without a limit, in seconds.
const DEFAULT_SESSION: u32 = 24 * 3_600;
/// How long a trial waits for messages.
const TRIAL: Duration = Duration::from_secs(5);
/// Maximum time to send acknowledgements.
const ACKNOWLEDGING: Duration = Duration::from_secs(10);

/// A source that subscribes.
pub struct MqttSource {
    mqtt: Mqtt,
    decoder: Decoder,
    connection: Option<Connection>,
    inbox: Inbox,
    /// An error that came after messages, which are stored first.
    fault: Option<FlowError>,
}

/// A connection that has subscribed.
struct Connection {
    runtime: Runtime,
    link: Link,
}

/// Messages that are not stored yet, with their time of arrival.
#[derive(Default)]
struct Inbox {
    messages: Vec<(Nanos, Message)>,
    bytes: usize,
}

impl Inbox {
    fn put(&mut self, at: Nanos, message: Message) {
        self.bytes += message.payload.len() + message.topic.len();
        self.messages.push((at, message));
    }
}

impl MqttSource {
    /// A source of a definition that was checked.
    pub fn new(mqtt: Mqtt) -> Self {
        let decoder = Decoder::new(&mqtt, mqtt.max_bytes.unwrap_or(DEFAULT_BYTES) as usize);
        Self { mqtt, decoder, connection: None, inbox: Inbox::default(), fault: None }
    }

    /// Topic filters of the subscriptions. A trial takes no messages away from others of its group.
    fn filters(&self, is_trial: bool) -> Vec<String> {
        let share = self.mqtt.share.as_ref().filter(|_| !is_trial).map_or(String::new(), |share| format!("$share/{share}/"));
        self.mqtt.topics.iter().map(|topic| format!("{share}{}", topic.filter())).collect()
    }

    fn client_id(&self, round: &Round<'_>) -> String {
        let store = round.intake.store.inspect().number();
        match (round.name, &self.mqtt.client_id) {
            (Some(_), Some(own)) => own.clone(),
            (Some(name), None) => format!("fenetre-{store:016x}-{name}"),
            // Brokers end the earlier connection of the same name.
            (None, _) => format!("fenetre-{store:016x}-try-{:x}", (round.clock)()),
        }
    }

    fn failure(&self, fault: Fault) -> FlowError {
        let broker = &self.mqtt.broker;
        match fault {
            Fault::Silent => FlowError::Silent(format!("{broker}: does not answer in time")),
            Fault::Other(reason) => FlowError::Peer(format!("{broker}: {reason}")),
        }
    }

    /// Connects, if there is no connection, and subscribes.
    fn connect(&mut self, round: &Round<'_>) -> Result<(), FlowError> {
        if self.connection.is_some() {
            return Ok(());
        }
        let client_id = self.client_id(round);
        let address = self.mqtt.login().address().map_err(FlowError::Definition)?;
        let is_trial = round.shown.is_some();
        let session = self.mqtt.session.map_or(DEFAULT_SESSION, |span| u32::try_from(duration(span).as_secs()).unwrap_or(u32::MAX));
        let link = Link::new(&Order {
            login: self.mqtt.login(),
            address: &address,
            client_id: &client_id,
            session: if is_trial { 0 } else { session },
            max_bytes: self.mqtt.max_bytes.unwrap_or(DEFAULT_BYTES).saturating_add(READ_ANYWAY),
            // Nothing is published.
            unacknowledged: 1,
            secrets: round.intake.store.secrets(),
        })?;
        let filters = self.filters(is_trial);
        let qos = self.mqtt.qos;
        let connecting = async move {
            let mut link = link;
            let (mut early, mut is_resumed) = (Vec::new(), false);
            loop {
                match link.next().await? {
                    Event::Connected { is_resumed: resumed } => {
                        is_resumed = resumed;
                        if is_resumed && qos == 2 {
                            link.expect_releases();
                        }
                        // Also in a resumed session: the topics may have changed.
                        link.subscribe(&filters, qos);
                    }
                    Event::Subscribed(answer) => {
                        break answer.map(|()| (link, early, is_resumed)).map_err(|reason| {
                            Fault::Other(format!(
                                "the subscription to {} was {reason}: check the topics, and what the user may read",
                                filters.join(", ")
                            ))
                        });
                    }
                    Event::Message(message) => early.push(message),
                    Event::Acknowledged | Event::Published | Event::Delivered(_) | Event::Other => {}
                }
            }
        };
        let runtime = new_runtime()?;
        let connected = runtime.block_on(unless_stopped(round.stop, async { timeout(CONNECTING, connecting).await }))?;
        let connected = connected.unwrap_or(Err(Fault::Silent));
        let (link, early, is_resumed) = connected.map_err(|fault| self.failure(fault))?;
        self.connection = Some(Connection { runtime, link });
        let now = (round.clock)();
        early.into_iter().for_each(|message| self.inbox.put(now, message));
        let session = if is_resumed { ", the broker kept the session" } else { "" };
        round.events.add(now, false, format!("connected to {}{session}", self.mqtt.broker));
        Ok(())
    }

    /// Forgets a connection that broke. Messages that are not stored yet must not be acknowledged over the next one, where their packet ids
    /// may belong to others: the broker sends them again.
    fn disconnected(&mut self, fault: Fault) {
        self.connection = None;
        self.inbox.messages.iter_mut().for_each(|(_, message)| message.receipt = Receipt::NONE);
        self.fault = Some(self.failure(fault));
    }

    /// Receives messages until there are enough, or nothing more comes.
    fn receive(&mut self, round: &Round<'_>) {
        let Self { connection, inbox, .. } = self;
        let Some(Connection { runtime, link }) = connection else { return };
        let longest = if round.shown.is_some() { TRIAL } else { IDLE };
        let enough = round.shown.map_or(MAX_MESSAGES, |shown| shown.min(MAX_MESSAGES));
        let begun = Instant::now();
        let mut first: Option<Instant> = None;
        let ended = runtime.block_on(async {
            while inbox.messages.len() < enough && inbox.bytes < MAX_BYTES {
                let wait = match first {
                    None => longest.saturating_sub(begun.elapsed()),
                    Some(_) if round.shown.is_some() => longest.saturating_sub(begun.elapsed()),
                    Some(first) => QUIET.min(LINGER.saturating_sub(first.elapsed())),
                };
                match timeout(wait, link.next()).await {
                    Err(_) => break,
                    Ok(Err(fault)) => return Err(fault),
                    Ok(Ok(Event::Message(message))) => {
                        first.get_or_insert_with(Instant::now);
                        inbox.put((round.clock)(), message);
                    }
                    // The library connected again by itself.
                    Ok(Ok(Event::Connected { .. })) => return Err(Fault::Other("the connection broke".to_owned())),
                    Ok(Ok(Event::Subscribed(_) | Event::Acknowledged | Event::Published | Event::Delivered(_) | Event::Other)) => {
                        if begun.elapsed() > longest && first.is_none() {
                            break;
                        }
                    }
                }
            }
            Ok(())
        });
        if let Err(fault) = ended {
            self.disconnected(fault);
        }
    }

    /// Sends acknowledgements, and waits until they are sent.
    fn acknowledge(&mut self, receipts: &[Receipt], round: &Round<'_>) {
        let Self { connection, inbox, .. } = self;
        let Some(Connection { runtime, link }) = connection else { return };
        let sending = async {
            let (mut waiting, mut sent) = (receipts.iter(), 0);
            let mut next = waiting.next();
            while sent < receipts.len() {
                while next.is_some_and(|receipt| link.acknowledge(*receipt)) {
                    next = waiting.next();
                }
                match link.next().await? {
                    Event::Acknowledged => sent += 1,
                    Event::Message(message) => inbox.put((round.clock)(), message),
                    Event::Connected { .. } => return Err(Fault::Other("the connection broke".to_owned())),
                    Event::Subscribed(_) | Event::Published | Event::Delivered(_) | Event::Other => {}
                }
            }
            Ok(())
        };
        if let Err(fault) = runtime.block_on(async { timeout(ACKNOWLEDGING, sending).await }).unwrap_or(Err(Fault::Silent)) {
            self.disconnected(fault);
        }
    }

    /// Stores the messages, and acknowledges them.
    fn store(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let mut gather = Gather::new(round, &self.mqtt.dataset, &self.mqtt.tags)?;
        for (at, message) in &self.inbox.messages {
            if !message.is_retained || self.mqtt.retained == Retained::Take {
                self.decoder.decode(&self.mqtt, message, *at, &mut gather);
            }
        }
        // If the store does not take them, they stay in the inbox and are tried again.
        let outcome = gather.keep()?;
        let stored = std::mem::take(&mut self.inbox).messages;
        let receipts: Vec<Receipt> = stored.into_iter().map(|(_, message)| message.receipt).filter(|receipt| receipt.is_needed()).collect();
        if !receipts.is_empty() {
            self.acknowledge(&receipts, round);
        }
        Ok(outcome)
    }
}

impl Source for MqttSource {
    fn round(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError> {
        if let Some(fault) = self.fault.take() {
            return Err(fault);
        }
        self.connect(round)?;
        self.receive(round);
        if self.inbox.messages.is_empty() {
            if let Some(fault) = self.fault.take() {
                return Err(fault);
            }
            if round.shown.is_some() {
                let text = format!("{}: connected and subscribed, but no message came within {} s", self.mqtt.broker, TRIAL.as_secs());
                return Err(FlowError::Silent(text));
            }
            return Ok(Outcome { is_idle: true, ..Outcome::default() });
        }
        self.store(round)
    }
}

impl Drop for MqttSource {
    fn drop(&mut self) {
        if let Some(Connection { runtime, link }) = &mut self.connection {
            link.disconnect();
            // Whether the broker hears it does not matter.
            let _ = runtime.block_on(async { timeout(IDLE, async { while link.next().await.is_ok() {} }).await });
        }
    }
}
