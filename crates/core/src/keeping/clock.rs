//! Whether the wall clock may be believed when points are to go since they are old. A clock that leaps a year ahead makes everything old at once: then nothing
//! goes until the clock is right again, or somebody says that it is right.

use crate::time::{Nanos, SECOND};

/// A leap of the wall clock against one that only counts, or against when it was last seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Leap {
    /// What the wall clock should say, as far as that is known.
    pub expected: Nanos,
    /// What it says.
    pub wall: Nanos,
}

/// What is known of the wall clock. Instants of the other clock, which only counts, are nanoseconds since some start, those of sleep among them.
#[derive(Clone, Copy, Debug)]
pub struct Clock {
    /// What the wall clock said when it was last believed.
    wall: Nanos,
    /// What the other one said then; none where that was before this start.
    counted: Option<Nanos>,
}

const DAY: Nanos = 86_400 * SECOND;
/// Clocks are set by hand and by the network: so far off, what goes goes a day early at the most, into the bin.
const OFF: Nanos = DAY;
/// A service may stand still so long; after more, somebody should look.
const STOPPED: Nanos = 31 * DAY;

impl Clock {
    /// Of a service that starts: `last` is what the wall clock said when it was last believed.
    pub fn since(last: Option<Nanos>, wall: Nanos, counted: Nanos) -> Self {
        match last {
            Some(last) => Self { wall: last, counted: None },
            None => Self { wall, counted: Some(counted) },
        }
    }

    /// Looks at both clocks. What is believed is the measure for the next look.
    ///
    /// # Errors
    /// [`Leap`], as long as it lasts.
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

    /// Believes the wall clock, whatever it says.
    pub fn accept(&mut self, wall: Nanos, counted: Nanos) {
        *self = Self { wall, counted: Some(counted) };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: Nanos = 20_000 * DAY;

    #[test]
    fn a_leap_lasts_until_the_clock_is_right_again_or_somebody_accepts_it() {
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
    fn steps_of_hours_and_a_machine_that_slept_are_no_leaps() {
        let mut clock = Clock::since(None, NOW, 0);
        assert_eq!(clock.look(NOW + 3_600 * SECOND, SECOND), Ok(()));
        assert_eq!(clock.look(NOW + 10 * DAY, 10 * DAY), Ok(()));
    }

    #[test]
    fn at_a_start_the_clock_is_measured_by_when_it_was_last_believed() {
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
