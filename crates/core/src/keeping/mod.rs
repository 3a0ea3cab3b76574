//! Retention: how long and how much to keep, what must expire, and forecasts of size. Decisions only: `now` and the stored data are arguments, and the
//! result is a plan that can be shown before it is carried out.
//!
//! | file | subject |
//! |---|---|
//! | `limits` | limits by age and size, where each is set, and which one applies |
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
