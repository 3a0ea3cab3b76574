//! Runtimes for clients of asynchronous libraries.

use crate::error::FlowError;

/// Returns whether to stop.
pub type Stop<'s> = &'s (dyn Fn() -> bool + Sync);

/// How often a wait for the other side asks whether to stop.
#[cfg(any(feature = "mqtt", feature = "opcua", feature = "sql"))]
const BETWEEN_STOPS: std::time::Duration = std::time::Duration::from_millis(100);

/// A runtime on the thread of the caller.
///
/// # Errors
/// If the system refuses it.
pub fn new_runtime() -> Result<tokio::runtime::Runtime, FlowError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    runtime.map_err(|error| FlowError::Peer(format!("a connection cannot start: {error}")))
}

/// Waits for the other side, unless the source or the sink is to stop.
///
/// # Errors
/// [`FlowError::Stopped`].
#[cfg(any(feature = "mqtt", feature = "opcua", feature = "sql"))]
pub async fn unless_stopped<T>(stop: Stop<'_>, work: impl Future<Output = T>) -> Result<T, FlowError> {
    tokio::pin!(work);
    loop {
        tokio::select! {
            done = &mut work => return Ok(done),
            () = tokio::time::sleep(BETWEEN_STOPS) => if stop() {
                return Err(FlowError::Stopped);
            }
        }
    }
}
