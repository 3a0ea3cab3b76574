//! What a destination is.

use fenetre_core::time::Nanos;
use fenetre_store::Secrets;

use super::outgoing::Outgoing;
use crate::error::FlowError;

/// What a destination answered to a batch that it has.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Receipt {
    /// Bytes that were sent.
    pub bytes: u64,
    /// Points that the destination rejected.
    pub rejected: u64,
    /// Some of the reasons, each in a sentence.
    pub samples: Vec<String>,
    /// Things to note in the log.
    pub notes: Vec<String>,
}

/// Why a destination does not have a batch.
#[derive(Debug)]
pub enum Undelivered {
    /// The destination refuses this batch: it is set aside.
    Refused(String),
    /// The batch is too large for the destination: it is sent in halves.
    TooLarge(String),
    /// The destination accepts nothing at the moment: the batch is sent again.
    Failed(FlowError),
}

impl Undelivered {
    /// The reason as an error.
    pub fn into_error(self) -> FlowError {
        match self {
            Self::Refused(reason) | Self::TooLarge(reason) => FlowError::Peer(reason),
            Self::Failed(error) => error,
        }
    }
}

impl From<FlowError> for Undelivered {
    fn from(error: FlowError) -> Self {
        Self::Failed(error)
    }
}

/// Sums of the points of a metric in a window.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct WindowSums {
    /// Number of points.
    pub count: u64,
    /// Sum of their values; none if they are no numbers.
    pub sum: Option<f64>,
}

/// What is compared with a destination.
#[derive(Clone, Debug)]
pub struct Inquiry<'a> {
    /// The metric at the destination.
    pub metric: &'a str,
    /// Constant tags, which distinguish points of this sink from others.
    pub tags: &'a std::collections::BTreeMap<String, String>,
    /// Whether its values are numbers.
    pub is_number: bool,
    /// First instant.
    pub start: Nanos,
    /// The instant after the last.
    pub end: Nanos,
    /// Width of a window, in nanoseconds.
    pub width: Nanos,
}

/// A destination.
pub trait Destination: Send {
    /// Sends a batch. When this returns, the destination has it on its own responsibility.
    ///
    /// # Errors
    /// [`Undelivered`].
    fn send(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Receipt, Undelivered>;

    /// The first rows of a batch as they are sent, as a text.
    ///
    /// # Errors
    /// If they cannot be written.
    fn preview(&self, batch: &Outgoing) -> Result<String, FlowError>;

    /// The destination's verdict on a batch, without storing it; none if the destination cannot give one.
    ///
    /// # Errors
    /// If it does not answer, or would refuse the batch.
    fn attempt(&mut self, _batch: &Outgoing, _secrets: &Secrets) -> Result<Option<String>, FlowError> {
        Ok(None)
    }

    /// The sums that the destination has, by the start of their windows; none if it cannot be read.
    ///
    /// # Errors
    /// If it does not answer.
    fn sums(&mut self, _inquiry: &Inquiry<'_>, _secrets: &Secrets) -> Result<Option<Vec<(Nanos, WindowSums)>>, FlowError> {
        Ok(None)
    }
}

/// Text of bytes that are UTF-8 by construction.
pub fn text_of(write: impl FnOnce(&mut Vec<u8>) -> std::io::Result<()>) -> Result<String, FlowError> {
    let mut bytes = Vec::new();
    write(&mut bytes).map_err(|error| FlowError::Peer(format!("the batch cannot be written: {error}")))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// Why a batch could not be written as bytes.
pub fn unwritable(error: &std::io::Error) -> Undelivered {
    Undelivered::Refused(format!("the batch cannot be written: {error}"))
}
