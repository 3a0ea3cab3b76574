//! A listener for TLS. A client that sends plain HTTP gets an explanation, not a broken connection.

use std::{io, time::Duration};

use actix_tls::accept::TlsError;
use actix_web::rt::net::TcpStream;
use tokio::{io::AsyncWriteExt, time::timeout};

/// The mark of a connection over TLS.
pub struct Secured;

/// The first byte of a TLS record that begins a handshake (RFC 8446, section 5.1).
const HANDSHAKE: u8 = 22;
/// How long a connection may stay silent.
const SILENT: Duration = Duration::from_secs(10);

const SPOKEN_PLAINLY: &str = "HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: 73\r\nConnection: close\r\n\r\n\
                              This port speaks TLS: write https:// instead of http:// in the address.\r\n";

/// Passes on a connection that begins a TLS handshake.
///
/// # Errors
/// [`TlsError::Timeout`] for every other connection, which was answered.
pub async fn admit<E>(mut stream: TcpStream) -> Result<TcpStream, TlsError<io::Error, E>> {
    let mut first = [0];
    match timeout(SILENT, stream.peek(&mut first)).await {
        Ok(Ok(1)) if first[0] == HANDSHAKE => Ok(stream),
        Ok(Ok(1)) => {
            // Whether that arrives is the caller's concern.
            let _ = timeout(SILENT, stream.write_all(SPOKEN_PLAINLY.as_bytes())).await;
            let _ = timeout(SILENT, stream.shutdown()).await;
            Err(TlsError::Timeout)
        }
        _ => Err(TlsError::Timeout),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_length_of_the_sentence_is_right() {
        let (head, body) = SPOKEN_PLAINLY.split_once("\r\n\r\n").unwrap();
        assert!(head.contains(&format!("Content-Length: {}\r\n", body.len())), "{}", body.len());
    }
}
