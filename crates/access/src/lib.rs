//! Tokens, grants, and the record of changes.
//!
//! ```text
//!  fenetre_5a0c…  ──► secret ──digest──► registry ──► token: grants, networks, limits, rates
//!                                           │
//!                                       records ──► STORE/access.db: tokens, sessions, uses, changes
//! ```
//!
//! | module | subject |
//! |---|---|
//! | [`secret`] | the text of a token: random bits and a checksum; its digest |
//! | [`grant`] | actions and the datasets that they are granted on |
//! | [`token`] | what a token allows, and its life |
//! | [`rate`] | rate limits without a lock |
//! | [`change`] | one row of the record of changes |
//! | [`records`] | the file `access.db` |
//! | [`registry`] | the tokens of this moment in memory; who presents a secret |
//!
//! This crate uses neither HTTP nor a clock: `now` is an argument.

pub mod change;
mod error;
pub mod grant;
pub mod rate;
pub mod records;
pub mod registry;
pub mod secret;
pub mod token;

pub use error::AccessError;
