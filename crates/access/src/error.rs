//! What can go wrong with tokens and their records.

use std::path::PathBuf;

/// Why something about access failed.
#[derive(Debug, thiserror::Error)]
pub enum AccessError {
    /// The file cannot be opened, read or written.
    #[error("cannot {action} {path}: {source}. If it is damaged, copy it from a backup; without it, there are no tokens and no record of changes")]
    File {
        /// What was tried.
        action: &'static str,
        /// The file.
        path: PathBuf,
        /// Why not.
        source: rusqlite::Error,
    },
    /// The file cannot be brought to the version of this program.
    #[error("cannot update {path}: {reason}. A later version of Fenetre may have written it")]
    Version {
        /// The file.
        path: PathBuf,
        /// Why not.
        reason: String,
    },
    /// A record does not have the form that it must have.
    #[error("the record of {what} in {path} cannot be read: {reason}. Nothing is assumed in its place: restore the file from a backup")]
    Damaged {
        /// The record that cannot be read.
        what: String,
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        reason: String,
    },
    /// There is no such token.
    #[error("there is no token `{name}`: `fenetre token list` shows them")]
    NoToken {
        /// The name or id that was asked for.
        name: String,
    },
    /// A token of that name exists.
    #[error("there is a token `{name}` already: choose another name, rotate it, or revoke it first")]
    NameTaken {
        /// The name.
        name: String,
    },
    /// A token cannot have such a property.
    #[error("{0}")]
    Invalid(String),
    /// The system has no random numbers.
    #[error("the system gives no random numbers: {0}")]
    Random(#[from] getrandom::Error),
}
