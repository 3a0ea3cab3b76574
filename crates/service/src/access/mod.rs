//! Authentication of callers, and their grants.
//!
//! ```text
//!  request ──► peer      address, host and scheme, through named proxies only
//!          ──► browser   no page from elsewhere acts for its reader
//!          ──► gate      token, session, or this machine ──► caller: grants, visibility, limits
//!          ──► guard     what was opened ends when the token does
//! ```

pub mod browser;
pub mod caller;
pub mod gate;
pub mod guard;
pub mod peer;
mod refusals;
mod sign_ins;
