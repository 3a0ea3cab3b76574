//! Why points did not get in.

use fenetre_formats::FormatError;
use fenetre_store::StoreError;

/// Why a body, or a round of a source, failed as a whole.
#[derive(Debug, thiserror::Error)]
pub enum FlowError {
    /// The store does not take it.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// It cannot be read.
    #[error(transparent)]
    Format(#[from] FormatError),
    /// Reading took longer than its time.
    #[error("reading the body took too long, so nothing was stored: send it in smaller parts")]
    TooSlow,
    /// The definition is wrong.
    #[error("{0}")]
    Definition(String),
    /// This build lacks a kind of source or sink.
    #[error("this build of Fenetre lacks the kind `{0}`: build it with the feature `{0}`")]
    Kind(&'static str),
    /// The source is to stop.
    #[error("stopped")]
    Stopped,
    /// The other side does not answer as it should.
    #[error("{0}")]
    Peer(String),
    /// The other side does not answer in time.
    #[error("{0}")]
    Silent(String),
    /// A secret is not there.
    #[error("{0}")]
    Secret(String),
    /// A file or a folder fails.
    #[error("cannot {action} {path}: {reason}")]
    File {
        /// What was tried.
        action: &'static str,
        /// The file.
        path: String,
        /// Why not.
        reason: String,
    },
}
