//! Detects callers that have disconnected. A server usually notices that on its next write; long work must notice earlier.

use std::{
    any::Any,
    future::Future,
    io,
    net::TcpStream,
    os::fd::AsFd,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use actix_web::{HttpRequest, dev::Extensions};

/// How often the connection is checked.
const EVERY: Duration = Duration::from_millis(250);

/// A second handle of a call's connection.
struct Connection(TcpStream);

impl Connection {
    /// Whether the caller has closed its side. A half-closed connection counts too, although HTTP allows it.
    fn has_ended(&self) -> bool {
        match self.0.peek(&mut [0]) {
            Ok(read) => read == 0,
            Err(error) => error.kind() != io::ErrorKind::WouldBlock,
        }
    }
}

/// Set when nobody waits for some work any more: the caller disconnected, which dropped the future that holds this.
#[derive(Default)]
pub struct CancelOnDrop(Arc<AtomicBool>);

impl CancelOnDrop {
    /// The flag that the work checks.
    pub fn flag(&self) -> Arc<AtomicBool> {
        Arc::clone(&self.0)
    }
}

impl Drop for CancelOnDrop {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// Stores a second handle of an accepted connection.
pub fn remember(stream: &dyn Any, data: &mut Extensions) {
    let Some(stream) = stream.downcast_ref::<actix_web::rt::net::TcpStream>() else { return };
    if let Ok(handle) = stream.as_fd().try_clone_to_owned() {
        data.insert(Connection(handle.into()));
    }
}

/// Runs some work until it ends or the caller disconnects; returns none in the second case, and drops the work.
pub async fn while_there<T>(request: &HttpRequest, work: impl Future<Output = T>) -> Option<T> {
    let Some(connection) = request.conn_data::<Connection>() else { return Some(work.await) };
    if connection.has_ended() {
        return None;
    }
    let left = async {
        loop {
            actix_web::rt::time::sleep(EVERY).await;
            if connection.has_ended() {
                return;
            }
        }
    };
    tokio::select! {
        biased;
        done = work => Some(done),
        () = left => None,
    }
}
