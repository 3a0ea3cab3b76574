//! Publishes batches as messages to an MQTT broker.

use std::{
    collections::VecDeque,
    hash::{BuildHasher, RandomState},
    time::{Duration, Instant},
};

use bytes::Bytes;
use fenetre_core::{
    model::Value,
    time::{Nanos, format_utc},
};
use fenetre_store::Secrets;
use tokio::{runtime::Runtime, time::timeout};

use super::{
    definition::{Mqtt, Payload},
    destination::{Destination, Receipt, Undelivered, text_of, unwritable},
    outgoing::{Outgoing, OutgoingPoint, OutgoingStretch},
};
use crate::{
    broker::{DEFAULT_KEEP_ALIVE, Event, Fault, Link, Order, Refusal},
    definition::{BrokerLogin, METRIC, duration},
    error::FlowError,
    runtime::new_runtime,
};

const DEFAULT_TIMEOUT: Duration = Duration::from_secs(30);
/// Maximum time to connect.
const CONNECTING: Duration = Duration::from_secs(10);
/// Maximum number of messages without an acknowledgement.
const UNACKNOWLEDGED: u16 = 1_000;
/// Maximum size of a message that the broker sends, in bytes. There is no subscription.
const MAX_BYTES: u32 = 64 << 10;
/// Size at which a message with several points is complete, in bytes.
const FULL: usize = 128 << 10;
/// Number of rejects that are kept as samples.
const MAX_SAMPLES: usize = 3;

/// Publishes messages.
pub struct Publisher {
    mqtt: Mqtt,
    client_id: String,
    connection: Option<Connection>,
}

struct Connection {
    runtime: Runtime,
    link: Link,
    used: Instant,
}

/// A message that is to be published.
struct Message {
    topic: String,
    payload: Bytes,
}

/// Messages of a batch.
#[derive(Default)]
struct Messages {
    all: VecDeque<Message>,
    /// Points without a topic.
    rejected: u64,
    /// Some of the reasons.
    samples: Vec<String>,
}

impl Publisher {
    /// For a definition that was checked. `sink` is the name of the sink.
    pub fn new(sink: &str, mqtt: Mqtt) -> Self {
        // Brokers end the earlier connection of the same name.
        let client_id = mqtt.client_id.clone().unwrap_or_else(|| format!("fenetre-{sink}-{:016x}", RandomState::new().hash_one(sink)));
        Self { mqtt, client_id, connection: None }
    }

    fn login(&self) -> BrokerLogin<'_> {
        self.mqtt.login()
    }

    fn failure(&self, fault: Fault) -> FlowError {
        let broker = &self.mqtt.broker;
        match fault {
            Fault::Silent => FlowError::Silent(format!("{broker}: does not answer in time")),
            Fault::Other(reason) => FlowError::Peer(format!("{broker}: {reason}")),
        }
    }

    /// Connects, unless there is a connection that the broker cannot have ended for lack of signs of life.
    fn connect(&mut self, secrets: &Secrets) -> Result<(), FlowError> {
        let keep_alive = self.mqtt.keep_alive.map_or(DEFAULT_KEEP_ALIVE, duration);
        if self.connection.as_ref().is_some_and(|connection| connection.used.elapsed() < keep_alive / 2) {
            return Ok(());
        }
        self.disconnect();
        let address = self.login().address().map_err(FlowError::Definition)?;
        let link = Link::new(&Order {
            login: self.login(),
            address: &address,
            client_id: &self.client_id,
            session: 0,
            max_bytes: MAX_BYTES,
            unacknowledged: UNACKNOWLEDGED,
            secrets,
        })?;
        let runtime = new_runtime()?;
        let connecting = async move {
            let mut link = link;
            loop {
                if let Event::Connected { .. } = link.next().await? {
                    return Ok(link);
                }
            }
        };
        let connected = runtime.block_on(async { timeout(CONNECTING, connecting).await }).unwrap_or(Err(Fault::Silent));
        let link = connected.map_err(|fault| self.failure(fault))?;
        self.connection = Some(Connection { runtime, link, used: Instant::now() });
        Ok(())
    }

    /// Publishes messages, and waits until the broker has taken all of them.
    fn publish(&mut self, messages: &mut VecDeque<Message>) -> Result<(), Undelivered> {
        let (qos, retain, patience) = (self.mqtt.qos, self.mqtt.retain, self.mqtt.timeout.map_or(DEFAULT_TIMEOUT, duration));
        let Some(Connection { runtime, link, used }) = &mut self.connection else {
            return Err(FlowError::Peer("the sink is not connected".to_owned()).into());
        };
        let publishing = async {
            let (mut open, mut refused) = (0_usize, None::<Refusal>);
            loop {
                while open < usize::from(UNACKNOWLEDGED)
                    && let Some(message) = messages.front()
                    && link.publish(&message.topic, message.payload.clone(), qos, retain)
                {
                    messages.pop_front();
                    open += 1;
                }
                if open == 0 {
                    return Ok(refused);
                }
                match timeout(patience, link.next()).await.unwrap_or(Err(Fault::Silent))? {
                    // With quality 0, there is no acknowledgement.
                    Event::Published if qos == 0 => open -= 1,
                    Event::Delivered(answer) => {
                        open = open.saturating_sub(1);
                        refused = refused.or(answer.err());
                    }
                    // The library connected again by itself; messages may have been lost.
                    Event::Connected { .. } => return Err(Fault::Other("the connection broke".to_owned())),
                    _ => {}
                }
            }
        };
        let published = runtime.block_on(publishing);
        *used = Instant::now();
        match published {
            Ok(None) => Ok(()),
            Ok(Some(Refusal { reason, is_of_message })) => {
                let text = format!("{}: the broker refused a message ({reason})", self.mqtt.broker);
                Err(if is_of_message { Undelivered::Refused(text) } else { Undelivered::Failed(FlowError::Peer(text)) })
            }
            Err(fault) => {
                self.connection = None;
                Err(self.failure(fault).into())
            }
        }
    }

    /// Ends the connection properly.
    fn disconnect(&mut self) {
        if let Some(Connection { runtime, mut link, .. }) = self.connection.take() {
            link.disconnect();
            let _ = runtime.block_on(async { timeout(Duration::from_millis(250), async { while link.next().await.is_ok() {} }).await });
        }
    }

    /// The messages of a batch.
    fn messages(&self, batch: &Outgoing) -> std::io::Result<Messages> {
        let mut messages = Messages::default();
        for stretch in &batch.stretches {
            let series = &stretch.series;
            let text_of = |name: &str| match name {
                METRIC => Some(&*series.metric),
                tag => series.tags.iter().find(|(key, _)| **key == *tag).map(|(_, value)| &**value),
            };
            let topic = match self.mqtt.topic.path(text_of) {
                Ok(topic) => topic,
                Err(reason) => {
                    messages.rejected += stretch.times.len() as u64;
                    if messages.samples.len() < MAX_SAMPLES {
                        messages.samples.push(format!("a series of {} has no topic: {reason}", series.metric));
                    }
                    continue;
                }
            };
            let mut lines = Vec::new();
            for (at, time) in stretch.times.iter().enumerate() {
                let value = stretch.values.at(at);
                let payload = match self.mqtt.payload {
                    Payload::Value => plain(&value)?,
                    Payload::Json => serde_json::to_vec(&point(stretch, *time, value))?,
                    Payload::JsonLines => {
                        serde_json::to_writer(&mut lines, &point(stretch, *time, value))?;
                        lines.push(b'\n');
                        if lines.len() < FULL && at + 1 < stretch.times.len() {
                            continue;
                        }
                        std::mem::take(&mut lines)
                    }
                };
                messages.all.push_back(Message { topic: topic.clone(), payload: payload.into() });
            }
        }
        Ok(messages)
    }
}

fn point(stretch: &OutgoingStretch, time: Nanos, value: Value) -> OutgoingPoint {
    let series = &stretch.series;
    OutgoingPoint {
        metric: series.metric.clone(),
        tags: series.tags.iter().cloned().collect(),
        time: format_utc(time),
        value,
        unit: series.unit.clone(),
    }
}

/// A value as text; a histogram as JSON.
fn plain(value: &Value) -> std::io::Result<Vec<u8>> {
    Ok(match value {
        Value::Histogram(histogram) => serde_json::to_vec(histogram)?,
        other => other.to_string().into_bytes(),
    })
}

impl Destination for Publisher {
    fn send(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Receipt, Undelivered> {
        let Messages { mut all, rejected, samples } = self.messages(batch).map_err(|error| unwritable(&error))?;
        let bytes = all.iter().map(|message| (message.topic.len() + message.payload.len()) as u64).sum();
        self.connect(secrets)?;
        self.publish(&mut all)?;
        Ok(Receipt { bytes, rejected, samples, notes: Vec::new() })
    }

    fn attempt(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Option<String>, FlowError> {
        let messages = self.messages(batch).map_err(|error| unwritable(&error).into_error())?;
        self.connect(secrets)?;
        self.disconnect();
        let rejected =
            messages.samples.first().map_or_else(String::new, |sample| format!("; {} points would be rejected: {sample}", messages.rejected));
        Ok(Some(format!("the broker lets the sink connect; {} messages would be published{rejected}", messages.all.len())))
    }

    fn preview(&self, batch: &Outgoing) -> Result<String, FlowError> {
        text_of(|out| {
            for Message { topic, payload } in self.messages(batch)?.all {
                out.extend_from_slice(topic.as_bytes());
                out.push(b' ');
                out.extend_from_slice(payload.trim_ascii_end());
                out.push(b'\n');
            }
            Ok(())
        })
    }
}

impl Drop for Publisher {
    fn drop(&mut self) {
        self.disconnect();
    }
}
