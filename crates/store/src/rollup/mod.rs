//! Makes windows of points: in the background, at once for tests and after changes, and again for a check.

mod status;
mod verify;
mod work;

pub use status::{LevelState, level_states};
pub use verify::verify;
pub use work::{rolled_before, start, turn};
