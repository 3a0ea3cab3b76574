//! Detects callers that have disconnected. A server usually notices that on its next write; long work must notice earlier.

use std::{
    any::Any,
    future::Future,
    os::fd::{AsFd, OwnedFd},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use actix_tls::accept::rustls_0_23::TlsStream;
use actix_web::{HttpRequest, dev::Extensions, rt::net::TcpStream};
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::tls::listener::Secured;

/// How often the connection is checked.
const EVERY: Duration = Duration::from_millis(250);

/// A second handle of a call's connection.
struct Connection(OwnedFd);

impl Connection {
    /// Whether the caller has closed its side. A half-closed connection counts too, although HTTP allows it. The end is seen behind bytes that
    /// were not read yet, such as the farewell of TLS.
    fn has_ended(&self) -> bool {
        let mut polled = [PollFd::new(&self.0, PollFlags::RDHUP)];
        let wait = Timespec { tv_sec: 0, tv_nsec: 0 };
        match poll(&mut polled, Some(&wait)) {
            Ok(_) => polled[0].revents().intersects(PollFlags::RDHUP | PollFlags::HUP | PollFlags::ERR),
            Err(_) => false,
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
    let plain = stream.downcast_ref::<TcpStream>();
    let secured = stream.downcast_ref::<TlsStream<TcpStream>>();
    if secured.is_some() {
        data.insert(Secured);
    }
    let Some(stream) = plain.or_else(|| secured.map(|stream| stream.get_ref().0)) else { return };
    if let Ok(handle) = stream.as_fd().try_clone_to_owned() {
        data.insert(Connection(handle));
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
