//! TLS: certificates that are exchanged while the service runs, and a listener that answers plain HTTP with a sentence.

pub mod certificate;
pub mod listener;
pub mod self_signed;
