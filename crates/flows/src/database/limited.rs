//! A connection that reads no more than a limit between two rows, whatever the server sends.

use std::{
    io,
    pin::Pin,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    task::{Context, Poll},
};

use tokio::{
    io::{AsyncRead, AsyncWrite, ReadBuf},
    net::TcpStream,
};

/// Most bytes between two rows.
const MAX_BYTES: usize = 64 << 20;

/// Counts bytes since the latest row.
#[derive(Clone, Debug, Default)]
pub struct Meter(Arc<AtomicUsize>);

impl Meter {
    /// A row came.
    pub fn reset(&self) {
        self.0.store(0, Ordering::Relaxed);
    }
}

/// A metered connection.
#[derive(Debug)]
pub struct Limited {
    stream: TcpStream,
    meter: Meter,
}

impl Limited {
    /// Meters a connection.
    pub fn new(stream: TcpStream, meter: Meter) -> Self {
        Self { stream, meter }
    }
}

impl AsyncRead for Limited {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = buffer.filled().len();
        let read = Pin::new(&mut self.stream).poll_read(context, buffer);
        let count = buffer.filled().len() - before;
        if self.meter.0.fetch_add(count, Ordering::Relaxed) + count > MAX_BYTES {
            return Poll::Ready(Err(io::Error::other(format!("the server sent more than {MAX_BYTES} bytes without a row"))));
        }
        read
    }
}

impl AsyncWrite for Limited {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}
