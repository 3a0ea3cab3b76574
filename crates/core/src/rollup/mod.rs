//! Rollups: summaries of fixed windows that stand for points, kept longer than these.
//!
//! A [`Window`] holds what every reducer needs of the points of one series in one window, borders included: windows that follow each other
//! merge into longer ones, and neighbours across a border are joined as points would be. So an answer from windows is the answer from points.
//!
//! | file | subject |
//! |---|---|
//! | `policy` | which metrics are rolled up, into which levels, and for how long |
//! | `level` | where the windows of a level lie |
//! | `window` | what is held of the points of a window |
//! | `moments` | of them, what scatter and slope need |
//! | `decimals` | decimals that were lost among the last digits of doubles |
//! | `even` | what follows from evenly spaced points |
//! | `sketch` | quantiles that merge |
//! | `columns` | windows as they come from the disk |
//! | `rows` | windows at rest |
//! | `bit_codes` | small numbers bit by bit |
//! | `roller` | points into windows, windows into longer ones |
//! | `uses` | which reducers windows answer |
//! | `segments` | which part of a query's time is answered by which level |

mod bit_codes;
mod columns;
mod decimals;
mod even;
mod level;
mod moments;
mod policy;
mod roller;
mod rows;
mod segments;
mod sketch;
mod uses;
mod window;

pub use columns::WindowColumns;
pub use level::{Level, LevelError};
pub use moments::Moments;
pub use policy::PolicyError;
pub use roller::Roller;
pub use rows::{BadRows, Encoded, Wants, column_sizes, decode, encode};
pub use segments::{Answers, Covered, Segment, segments};
pub use sketch::Sketch;
pub use uses::{Use, use_of};
pub use window::{Contents, Made, Rules, Steps, View, Window};
