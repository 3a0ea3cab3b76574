//! Whether a caller is still there. A server learns that it has gone when it writes; work that takes long must know before.

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

/// How often it is looked.
const EVERY: Duration = Duration::from_millis(250);

/// A second handle of a call's connection.
struct Connection(TcpStream);

impl Connection {
    /// Whether the caller has closed its end. One that has only stopped sending, which HTTP lets it do, counts as gone too.
    fn has_ended(&self) -> bool {
        match self.0.peek(&mut [0]) {
            Ok(read) => read == 0,
            Err(error) => error.kind() != io::ErrorKind::WouldBlock,
        }
    }
}

/// Raised when nobody waits for some work any more: the caller has gone, and with it the future that holds this.
#[derive(Default)]
pub struct GivenUp(Arc<AtomicBool>);

impl GivenUp {
    /// What the work looks at.
    pub fn flag(&self) -> Arc<AtomicBool> {
        Arc::clone(&self.0)
    }
}

impl Drop for GivenUp {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// Keeps a handle of a connection that was accepted.
pub fn remember(stream: &dyn Any, data: &mut Extensions) {
    let Some(stream) = stream.downcast_ref::<actix_web::rt::net::TcpStream>() else { return };
    if let Ok(handle) = stream.as_fd().try_clone_to_owned() {
        data.insert(Connection(handle.into()));
    }
}

/// What some work gives, or nothing where the caller leaves before it has ended. The work is dropped then.
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
