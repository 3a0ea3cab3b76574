//! Keeping: how long and how much, what must go, and what it will weigh. Decisions only: `now` and what is held are arguments, what comes out
//! is a plan that can be shown before it is carried out.
//!
//! | file | subject |
//! |---|---|
//! | `limits` | limits by age and size, where each is said, and which one is in force |
//! | `expiry` | what must go, and why |
//! | `clock` | whether the wall clock may be believed |
//! | `outlook` | what will be there under a limit, and when one is reached |

mod clock;
mod expiry;
mod limits;
mod outlook;

pub use clock::{Clock, Leap};
pub use expiry::{BinHolding, DatasetHolding, Expiry, MetricHolding, PartitionHolding, Step, StoreHolding, Volume, Why};
pub use limits::{ByteSize, InForce, LimitSettings, Limits, Policies, Reserve, Scope, SizeError, Source};
pub use outlook::{Growth, Outlook, PARTITION_DAYS, Stream, outlook};
