//! A connection to a broker, in either version of MQTT.

use std::{io, time::Duration};

use bytes::Bytes;
use fenetre_store::Secrets;
use rumqttc::{Outgoing, TlsConfiguration, Transport, v5};

use crate::{
    definition::{Address, BROKER_SCHEMES, BrokerLogin, MqttVersion, duration},
    error::FlowError,
    tls::TlsFiles,
};

/// Maximum number of unacknowledged messages (MQTT 5.0, 3.1.2.11.3).
const MAX_UNACKNOWLEDGED: u16 = 20_000;
/// Maximum number of requests that wait to be sent; higher than the number of unacknowledged messages.
const REQUESTS: usize = 65_536;
/// Interval of signs of life of a definition without one.
pub const DEFAULT_KEEP_ALIVE: Duration = Duration::from_secs(30);
/// Maximum time of a connection attempt.
const CONNECTING: Duration = Duration::from_secs(5);

/// What happened on a connection.
pub enum Event {
    /// It is there; the broker has the session of before, or has not.
    Connected {
        /// Whether subscriptions and unacknowledged messages are still known there.
        is_resumed: bool,
    },
    /// The broker answered a subscription; the error is in words.
    Subscribed(Result<(), String>),
    /// A message came.
    Message(Message),
    /// An acknowledgement was sent.
    Acknowledged,
    /// A message was handed to the network.
    Published,
    /// The broker has taken a message, or not, with the reason.
    Delivered(Result<(), Refusal>),
    /// Something else.
    Other,
}

/// Why a broker does not take a message (MQTT 5.0, 3.4.2.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// The reason, in words.
    pub reason: String,
    /// Whether the message is at fault, so that it would be refused again.
    pub is_of_message: bool,
}

/// A message.
pub struct Message {
    pub topic: Bytes,
    pub payload: Bytes,
    pub is_retained: bool,
    /// Content type (MQTT 5.0, 3.3.2.3.9).
    pub content_type: Option<String>,
    pub receipt: Receipt,
}

/// By what a message is acknowledged.
#[derive(Clone, Copy, Debug)]
pub struct Receipt {
    qos: u8,
    packet: u16,
}

impl Receipt {
    /// For a message whose connection is gone: the broker sends it again.
    pub const NONE: Self = Self { qos: 0, packet: 0 };

    /// Whether the broker waits for an acknowledgement.
    pub fn is_needed(self) -> bool {
        self.qos > 0
    }
}

/// How to connect.
pub struct Order<'a> {
    /// The broker, and the identity of the client.
    pub login: BrokerLogin<'a>,
    /// Its address.
    pub address: &'a Address,
    /// Name of the client at the broker.
    pub client_id: &'a str,
    /// How long the broker keeps the session after the connection, in seconds.
    pub session: u32,
    /// Maximum size of a message, in bytes.
    pub max_bytes: u32,
    /// Maximum number of published messages without an acknowledgement.
    pub unacknowledged: u16,
    /// The secrets of the store.
    pub secrets: &'a Secrets,
}

/// A connection, which is made again when it breaks.
pub enum Link {
    V311(Box<Connection311>),
    V5(Box<Connection5>),
}

pub struct Connection311 {
    client: rumqttc::AsyncClient,
    events: rumqttc::EventLoop,
}

pub struct Connection5 {
    client: v5::AsyncClient,
    events: v5::EventLoop,
}

impl Link {
    /// Prepares a connection; [`Link::next`] makes it.
    ///
    /// # Errors
    /// If a secret or certificate cannot be read.
    pub fn new(order: &Order<'_>) -> Result<Self, FlowError> {
        let Order { login, address, client_id, session, max_bytes, unacknowledged, secrets } = order;
        let is_tls = address.scheme == BROKER_SCHEMES[1];
        let port = address.port.unwrap_or(if is_tls { 8_883 } else { 1_883 });
        let password = login.password.map_or_else(|| Ok(String::new()), |password| password.read(secrets))?;
        let keep_alive = login.keep_alive.map_or(DEFAULT_KEEP_ALIVE, duration);
        let transport = if is_tls {
            let files = TlsFiles { ca: login.ca, certificate: login.certificate, key: login.key };
            Transport::tls_with_config(TlsConfiguration::Rustls(files.read()?))
        } else {
            Transport::tcp()
        };
        Ok(match login.version {
            MqttVersion::V311 => {
                let mut options = rumqttc::MqttOptions::new(*client_id, &address.host, port);
                options.set_keep_alive(keep_alive).set_clean_session(*session == 0).set_manual_acks(true).set_transport(transport);
                options.set_max_packet_size(*max_bytes as usize, *max_bytes as usize);
                // The library keeps a place for each message that could be published.
                options.set_inflight(*unacknowledged);
                if let Some(user) = login.user {
                    options.set_credentials(user, password);
                }
                let (client, mut events) = rumqttc::AsyncClient::new(options, REQUESTS);
                events.network_options.set_connection_timeout(CONNECTING.as_secs());
                events.network_options.set_tcp_nodelay(true);
                Self::V311(Box::new(Connection311 { client, events }))
            }
            MqttVersion::V5 => {
                let mut options = v5::MqttOptions::new(*client_id, &address.host, port);
                options.set_keep_alive(keep_alive).set_clean_start(*session == 0).set_manual_acks(true).set_transport(transport);
                options.set_connection_timeout(CONNECTING.as_secs());
                options
                    .set_session_expiry_interval(Some(*session))
                    .set_receive_maximum(Some(MAX_UNACKNOWLEDGED))
                    .set_max_packet_size(Some(*max_bytes));
                options.set_outgoing_inflight_upper_limit(*unacknowledged);
                if let Some(user) = login.user {
                    options.set_credentials(user, password);
                }
                let mut network = options.network_options();
                network.set_tcp_nodelay(true);
                options.set_network_options(network);
                let (client, events) = v5::AsyncClient::new(options, REQUESTS);
                Self::V5(Box::new(Connection5 { client, events }))
            }
        })
    }

    /// Waits for the next event. May be dropped while it waits.
    ///
    /// # Errors
    /// If the connection cannot be made, or broke; the next call makes it again.
    pub async fn next(&mut self) -> Result<Event, Fault> {
        Ok(match self {
            Self::V311(connection) => match connection.events.poll().await.map_err(Fault::of_311)? {
                rumqttc::Event::Incoming(packet) => incoming_311(packet),
                rumqttc::Event::Outgoing(outgoing) => sent(&outgoing),
            },
            Self::V5(connection) => match connection.events.poll().await.map_err(Fault::of_5)? {
                v5::Event::Incoming(packet) => incoming_5(packet),
                v5::Event::Outgoing(outgoing) => sent(&outgoing),
            },
        })
    }

    /// Subscribes to topic filters.
    pub fn subscribe(&self, filters: &[String], qos: u8) {
        // The queue of requests is empty after a connection was made, so it has room.
        let _ = match self {
            Self::V311(connection) => {
                let qos = rumqttc::qos(qos).unwrap_or(rumqttc::QoS::AtLeastOnce);
                connection.client.try_subscribe_many(filters.iter().map(|filter| rumqttc::SubscribeFilter::new(filter.clone(), qos))).is_ok()
            }
            Self::V5(connection) => {
                let qos = v5::mqttbytes::qos(qos).unwrap_or(v5::mqttbytes::QoS::AtLeastOnce);
                connection.client.try_subscribe_many(filters.iter().map(|filter| v5::mqttbytes::v5::Filter::new(filter.clone(), qos))).is_ok()
            }
        };
    }

    /// Queues a message for publication; whether there was room for it.
    pub fn publish(&self, topic: &str, payload: Bytes, qos: u8, retain: bool) -> bool {
        match self {
            Self::V311(connection) => {
                let qos = rumqttc::qos(qos).unwrap_or(rumqttc::QoS::AtLeastOnce);
                connection.client.try_publish(topic, qos, retain, payload).is_ok()
            }
            Self::V5(connection) => {
                let qos = v5::mqttbytes::qos(qos).unwrap_or(v5::mqttbytes::QoS::AtLeastOnce);
                connection.client.try_publish(topic, qos, retain, payload).is_ok()
            }
        }
    }

    /// Queues the acknowledgement of a message; whether there was room for it.
    pub fn acknowledge(&self, receipt: Receipt) -> bool {
        match self {
            Self::V311(connection) => connection.client.try_ack(&publish_311(receipt)).is_ok(),
            Self::V5(connection) => connection.client.try_ack(&publish_5(receipt)).is_ok(),
        }
    }

    /// Makes the client answer releases of messages that an earlier process had received.
    ///
    /// With quality 2, a broker repeats the release of a message after a new connection (MQTT 5.0, 4.4). The library drops the connection if it does not know the
    /// message, so it is made to know all packet ids.
    pub fn expect_releases(&mut self) {
        for packet in 1..=u16::MAX {
            let receipt = Receipt { qos: 2, packet };
            // A message is only noted: acknowledgements are manual.
            match self {
                Self::V311(connection) => {
                    let _ = connection.events.state.handle_incoming_packet(rumqttc::Packet::Publish(publish_311(receipt)));
                    connection.events.state.events.pop_back();
                }
                Self::V5(connection) => {
                    let _ = connection.events.state.handle_incoming_packet(v5::mqttbytes::v5::Packet::Publish(publish_5(receipt)));
                    connection.events.state.events.pop_back();
                }
            }
        }
    }

    /// Says goodbye, so that the broker does not take it for a fault.
    pub fn disconnect(&self) {
        let _ = match self {
            Self::V311(connection) => connection.client.try_disconnect().is_ok(),
            Self::V5(connection) => connection.client.try_disconnect().is_ok(),
        };
    }
}

fn publish_311(receipt: Receipt) -> rumqttc::Publish {
    let mut publish = rumqttc::Publish::new("", rumqttc::qos(receipt.qos).unwrap_or(rumqttc::QoS::AtLeastOnce), Vec::new());
    publish.pkid = receipt.packet;
    publish
}

fn publish_5(receipt: Receipt) -> v5::mqttbytes::v5::Publish {
    let qos = v5::mqttbytes::qos(receipt.qos).unwrap_or(v5::mqttbytes::QoS::AtLeastOnce);
    let mut publish = v5::mqttbytes::v5::Publish::new("", qos, Bytes::new(), None);
    publish.pkid = receipt.packet;
    publish
}

fn incoming_311(packet: rumqttc::Packet) -> Event {
    match packet {
        rumqttc::Packet::ConnAck(answer) => Event::Connected { is_resumed: answer.session_present },
        rumqttc::Packet::SubAck(answer) => {
            let is_refused = answer.return_codes.contains(&rumqttc::SubscribeReasonCode::Failure);
            Event::Subscribed(if is_refused { Err("refused".to_owned()) } else { Ok(()) })
        }
        rumqttc::Packet::Publish(publish) => Event::Message(Message {
            topic: Bytes::from(publish.topic),
            payload: publish.payload,
            is_retained: publish.retain,
            content_type: None,
            receipt: Receipt { qos: publish.qos as u8, packet: publish.pkid },
        }),
        rumqttc::Packet::PubAck(_) | rumqttc::Packet::PubComp(_) => Event::Delivered(Ok(())),
        _ => Event::Other,
    }
}

fn incoming_5(packet: v5::mqttbytes::v5::Packet) -> Event {
    use v5::mqttbytes::v5::{Packet, PubAckReason, PubRecReason, SubscribeReasonCode};

    match packet {
        Packet::ConnAck(answer) => Event::Connected { is_resumed: answer.session_present },
        Packet::SubAck(answer) => {
            let refused = answer.return_codes.iter().find(|code| !matches!(code, SubscribeReasonCode::Success(_)));
            Event::Subscribed(refused.map_or(Ok(()), |code| Err(format!("refused ({code:?})"))))
        }
        Packet::Publish(publish) => Event::Message(Message {
            topic: publish.topic,
            payload: publish.payload,
            is_retained: publish.retain,
            content_type: publish.properties.and_then(|properties| properties.content_type),
            receipt: Receipt { qos: publish.qos as u8, packet: publish.pkid },
        }),
        Packet::PubAck(answer) => Event::Delivered(match answer.reason {
            PubAckReason::Success | PubAckReason::NoMatchingSubscribers => Ok(()),
            other => {
                let is_of_message = matches!(other, PubAckReason::TopicNameInvalid | PubAckReason::PayloadFormatInvalid);
                Err(Refusal { reason: format!("{other:?}"), is_of_message })
            }
        }),
        Packet::PubRec(answer) if !matches!(answer.reason, PubRecReason::Success | PubRecReason::NoMatchingSubscribers) => {
            let is_of_message = matches!(answer.reason, PubRecReason::TopicNameInvalid | PubRecReason::PayloadFormatInvalid);
            Event::Delivered(Err(Refusal { reason: format!("{:?}", answer.reason), is_of_message }))
        }
        Packet::PubComp(_) => Event::Delivered(Ok(())),
        _ => Event::Other,
    }
}

fn sent(outgoing: &Outgoing) -> Event {
    match outgoing {
        Outgoing::PubAck(_) | Outgoing::PubRec(_) => Event::Acknowledged,
        Outgoing::Publish(_) => Event::Published,
        _ => Event::Other,
    }
}

/// Why there is no connection.
pub enum Fault {
    /// The broker does not answer in time.
    Silent,
    /// In words.
    Other(String),
}

impl Fault {
    fn of_311(error: rumqttc::ConnectionError) -> Self {
        use rumqttc::{ConnectReturnCode as Code, ConnectionError as Error, StateError as State};

        Self::Other(match error {
            Error::NetworkTimeout | Error::FlushTimeout => return Self::Silent,
            Error::MqttState(State::AwaitPingResp) => return Self::Silent,
            Error::MqttState(State::ConnectionAborted) => "the broker closed the connection".to_owned(),
            Error::MqttState(State::Io(error)) | Error::Io(error) => of_io(&error),
            Error::ConnectionRefused(Code::BadUserNamePassword | Code::NotAuthorized) => REFUSED.to_owned(),
            Error::ConnectionRefused(Code::RefusedProtocolVersion) => format!("{OTHER_VERSION}\"5\""),
            Error::ConnectionRefused(Code::BadClientId) => "the broker refused the `client_id`".to_owned(),
            Error::ConnectionRefused(Code::ServiceUnavailable) => "the broker is not available".to_owned(),
            Error::MqttState(State::Deserialization(rumqttc::mqttbytes::Error::PayloadSizeLimitExceeded(size))) => {
                format!(
                    "a message of {size} bytes breaks the connection, because it is far larger than `max_bytes`: raise it, or remove the message at the broker"
                )
            }
            Error::MqttState(State::Deserialization(error)) => unreadable(&error),
            Error::Tls(error) => of_tls(&error),
            other => other.to_string(),
        })
    }

    fn of_5(error: v5::ConnectionError) -> Self {
        use v5::{ConnectionError as Error, StateError as State, mqttbytes::v5::ConnectReturnCode as Code};

        Self::Other(match error {
            Error::Timeout(_) => return Self::Silent,
            Error::MqttState(State::AwaitPingResp) => return Self::Silent,
            Error::MqttState(State::ConnectionAborted) => "the broker closed the connection".to_owned(),
            Error::MqttState(State::Io(error)) | Error::Io(error) => of_io(&error),
            Error::ConnectionRefused(code) | Error::MqttState(State::ConnFail { reason: code }) => match code {
                Code::BadUserNamePassword | Code::NotAuthorized => REFUSED.to_owned(),
                Code::RefusedProtocolVersion | Code::UnsupportedProtocolVersion => format!("{OTHER_VERSION}\"3.1.1\""),
                other => format!("the broker refused the connection ({other:?})"),
            },
            Error::MqttState(State::ServerDisconnect { reason_code, reason_string }) => {
                format!("the broker ended the connection ({reason_code:?}{})", reason_string.map_or(String::new(), |text| format!(": {text}")))
            }
            Error::MqttState(State::Deserialization(error)) => unreadable(&error),
            Error::Tls(error) => of_tls(&error),
            other => other.to_string(),
        })
    }
}

const REFUSED: &str = "the broker refused the connection: set `user` and `password`, or check them";
const OTHER_VERSION: &str = "the broker does not speak this version of MQTT: set version = ";

fn of_io(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
        io::ErrorKind::ConnectionReset | io::ErrorKind::ConnectionAborted | io::ErrorKind::UnexpectedEof => {
            "the broker closed the connection".to_owned()
        }
        _ => error.to_string(),
    }
}

fn of_tls(error: &impl std::fmt::Display) -> String {
    format!("TLS failed: check the port, and the certificate against `ca` ({error})")
}

fn unreadable(error: &impl std::fmt::Display) -> String {
    format!("the server there does not speak MQTT ({error})")
}
