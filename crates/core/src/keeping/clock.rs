//! Plausibility of the wall clock for expiry. A clock that leaps a year ahead makes all points old at once, so expiry pauses until the clock is plausible
//! again or an operator accepts it.

use crate::time::{Nanos, SECOND};

/// A leap of the wall clock, relative to the monotonic clock or to the last stored time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Leap {
    /// The expected wall time.
    pub expected: Nanos,
    /// The actual wall time.
    pub wall: Nanos,
}

/// The last plausible state of the wall clock. Monotonic times are nanoseconds since boot, time asleep included.
#[derive(Clone, Copy, Debug)]
pub struct Clock {
    /// The last plausible wall time.
    wall: Nanos,
    /// The monotonic time at that moment; none if it was before this start.
    counted: Option<Nanos>,
}

const DAY: Nanos = 86_400 * SECOND;
/// Tolerance for clocks that are set by hand or over the network. Within it, points expire at most a day early, and into the bin.
const OFF: Nanos = DAY;
/// Longest time between two starts that is accepted without an operator.
const STOPPED: Nanos = 31 * DAY;

impl Clock {
    /// The clock of a service that starts. `last` is the last plausible wall time, if one is stored.
    pub fn since(last: Option<Nanos>, wall: Nanos, counted: Nanos) -> Self {
        match last {
            Some(last) => Self { wall: last, counted: None },
            None => Self { wall, counted: Some(counted) },
        }
    }

    /// Compares both clocks. A plausible wall time becomes the reference for the next look.
    ///
    /// # Errors
    /// [`Leap`] while the wall time is implausible; the reference stays.
    pub fn look(&mut self, wall: Nanos, counted: Nanos) -> Result<(), Leap> {
        let passed = self.counted.map_or(0, |before| counted.saturating_sub(before).max(0));
        let expected = self.wall.saturating_add(passed);
        let ahead = if self.counted.is_some() { OFF } else { STOPPED };
        if wall > expected.saturating_add(ahead) || wall < expected.saturating_sub(OFF) {
            return Err(Leap { expected, wall });
        }
        self.accept(wall, counted);
        Ok(())
    }

    /// Makes the wall time the reference, whatever it is.
    pub fn accept(&mut self, wall: Nanos, counted: Nanos) {
        *self = Self { wall, counted: Some(counted) };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: Nanos = 20_000 * DAY;

    #[test]
    fn a_clock_jump_lasts_until_it_is_corrected_or_accepted() {
        let mut clock = Clock::since(None, NOW, 5);
        assert_eq!(clock.look(NOW + 60 * SECOND, 5 + 60 * SECOND), Ok(()));
        // A year ahead for a while, during which the other clock counts on.
        let leap = Leap { expected: NOW + 90 * SECOND, wall: NOW + 366 * DAY };
        assert_eq!(clock.look(NOW + 366 * DAY, 5 + 90 * SECOND), Err(leap));
        assert!(clock.look(NOW + 366 * DAY + 30 * SECOND, 5 + 120 * SECOND).is_err());
        assert_eq!(clock.look(NOW + 150 * SECOND, 5 + 150 * SECOND), Ok(()));
        // Back, likewise; and accepted, it is the measure.
        assert!(clock.look(NOW - 3 * DAY, 5 + 160 * SECOND).is_err());
        clock.accept(NOW - 3 * DAY, 5 + 160 * SECOND);
        assert_eq!(clock.look(NOW - 3 * DAY + SECOND, 5 + 161 * SECOND), Ok(()));
        assert!(clock.look(NOW, 5 + 162 * SECOND).is_err());
    }

    #[test]
    fn clock_steps_of_hours_and_sleep_are_not_jumps() {
        let mut clock = Clock::since(None, NOW, 0);
        assert_eq!(clock.look(NOW + 3_600 * SECOND, SECOND), Ok(()));
        assert_eq!(clock.look(NOW + 10 * DAY, 10 * DAY), Ok(()));
    }

    #[test]
    fn at_start_the_clock_is_compared_with_the_last_trusted_time() {
        for (wall, is_believed) in [(NOW, true), (NOW + 30 * DAY, true), (NOW + 32 * DAY, false), (NOW - 2 * DAY, false), (0, false)] {
            assert_eq!(Clock::since(Some(NOW), wall, 7).look(wall, 7).is_ok(), is_believed, "{wall}");
        }
        // A machine that wakes up in 1970, and is set right by the network.
        let mut clock = Clock::since(Some(NOW), 0, 7);
        assert!(clock.look(0, 7).is_err());
        assert_eq!(clock.look(NOW + DAY, 7 + 20 * SECOND), Ok(()));
        assert!(clock.look(NOW + 9 * DAY, 7 + 30 * SECOND).is_err(), "from then on by the other clock");
    }
}
