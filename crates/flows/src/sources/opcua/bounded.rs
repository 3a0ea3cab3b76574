//! A connection whose messages have a limit. The library reads as much as the header of a message announces, up to 4 GB.

use std::{
    io,
    pin::Pin,
    task::{Context, Poll, ready},
};

use opcua::{
    client::{
        ConnectionSource,
        transport::{Connector, OutgoingMessage, StreamConnection, StreamConnector, StreamTransport, TransportConfiguration},
    },
    core::comms::tcp_codec::TcpCodec,
    types::{DecodingOptions, EndpointDescription, Error, StatusCode},
};
use tokio::{
    io::{AsyncRead, ReadBuf, ReadHalf, WriteHalf, split},
    net::{TcpStream, lookup_host},
    sync::mpsc::Receiver,
};
use tokio_util::codec::FramedRead;

/// Largest part of a message, in bytes.
const MAX_CHUNK: u32 = 1 << 20;
/// Type, kind of chunk, and size of a message (IEC 62541-6, 7.1.2.2).
const HEADER: usize = 8;
const DEFAULT_PORT: u16 = 4_840;

/// Reads messages, and fails at the header of one that is too large.
pub struct Bounded<R> {
    inner: R,
    header: [u8; HEADER],
    /// Bytes of the header that are there.
    known: usize,
    /// Bytes of the message that are still to come.
    left: usize,
}

impl<R> Bounded<R> {
    fn new(inner: R) -> Self {
        Self { inner, header: [0; HEADER], known: 0, left: 0 }
    }

    fn look(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            if self.left > 0 {
                let passed = self.left.min(bytes.len());
                self.left -= passed;
                bytes = &bytes[passed..];
                continue;
            }
            self.header[self.known] = bytes[0];
            self.known += 1;
            bytes = &bytes[1..];
            if self.known == HEADER {
                self.known = 0;
                let [.., a, b, c, d] = self.header;
                let size = u32::from_le_bytes([a, b, c, d]);
                if !(HEADER as u32..=MAX_CHUNK).contains(&size) {
                    return Err(io::Error::new(io::ErrorKind::InvalidData, format!("a message of {size} bytes")));
                }
                self.left = size as usize - HEADER;
            }
        }
        Ok(())
    }
}

impl<R: AsyncRead + Unpin> AsyncRead for Bounded<R> {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = buffer.filled().len();
        ready!(Pin::new(&mut self.inner).poll_read(context, buffer))?;
        let looked = self.look(&buffer.filled()[before..]);
        Poll::Ready(looked)
    }
}

type Reader = Bounded<ReadHalf<TcpStream>>;
type Writer = WriteHalf<TcpStream>;

/// Connects to an address, whatever host the server calls itself.
#[derive(Clone)]
pub struct BoundedConnector(pub String);

async fn connect(url: String, options: DecodingOptions) -> Result<StreamConnection<Reader, Writer>, Error> {
    let fault = |error: io::Error| Error::new(StatusCode::BadCommunicationError, error.to_string());
    let place = url.trim_start_matches("opc.tcp://").split('/').next().unwrap_or_default();
    let has_port = place.rsplit_once(':').is_some_and(|(_, port)| port.parse::<u16>().is_ok());
    let place = if has_port { place.to_owned() } else { format!("{place}:{DEFAULT_PORT}") };
    let address = lookup_host(place).await.map_err(fault)?.next();
    let address = address.ok_or_else(|| Error::new(StatusCode::BadCommunicationError, "the host has no address"))?;
    let stream = TcpStream::connect(address).await.map_err(fault)?;
    let (reader, writer) = split(stream);
    Ok(StreamConnection::new(FramedRead::new(Bounded::new(reader), TcpCodec::new(options)), writer, url))
}

impl Connector for BoundedConnector {
    type Transport = StreamTransport<Reader, Writer>;

    async fn connect(
        &self,
        channel: std::sync::Arc<opcua::client::transport::SecureChannelState>,
        outgoing: Receiver<OutgoingMessage>,
        config: TransportConfiguration,
    ) -> Result<Self::Transport, Error> {
        StreamConnector::new(connect, self.0.clone()).connect(channel, outgoing, config).await
    }

    fn default_endpoint(&self) -> EndpointDescription {
        EndpointDescription::from(self.0.as_str())
    }
}

impl ConnectionSource for BoundedConnector {
    type Builder = Self;

    fn get_connector(&self, _: &EndpointDescription) -> Result<Self, Error> {
        Ok(self.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_pass_until_one_is_too_large() {
        let message = |size: u32, body: usize| [b"MSGF".as_slice(), &size.to_le_bytes(), &vec![7; body]].concat();
        let mut bounded = Bounded::new(());
        let stream = [message(12, 4), message(8, 0), message(20, 12)].concat();
        // In parts of three bytes, so that headers are cut.
        stream.chunks(3).for_each(|part| bounded.look(part).unwrap());
        assert!(bounded.look(&message(u32::MAX, 0)).unwrap_err().to_string().contains("4294967295 bytes"));
        assert!(Bounded::new(()).look(&message(7, 0)).is_err());
    }
}
