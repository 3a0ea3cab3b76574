//! Rate limits without a lock: the generic cell rate algorithm (ITU-T I.371, virtual scheduling). One number, the time at which the account would be
//! settled, is compared and moved by atomic operations.

use std::sync::atomic::{AtomicI64, Ordering};

use fenetre_core::time::{Nanos, SECOND};

/// Use that is allowed at once, in seconds of the rate.
const BURST_SECONDS: i64 = 2;

/// A limit in units per second.
#[derive(Debug, Default)]
pub struct Rate {
    /// Theoretical arrival time of the next unit, in nanoseconds of a steady clock.
    settled: AtomicI64,
}

impl Rate {
    /// Whether units may be used now; else after how many nanoseconds they may. Costs nothing yet.
    ///
    /// # Errors
    /// The time to wait.
    pub fn check(&self, per_second: u64, now: Nanos) -> Result<(), Nanos> {
        let wait = self.settled.load(Ordering::Relaxed).saturating_sub(now).saturating_sub(burst(per_second));
        if wait > 0 { Err(wait) } else { Ok(()) }
    }

    /// Uses units, even more than there are: the next check waits for them.
    pub fn charge(&self, per_second: u64, units: u64, now: Nanos) {
        let price = i64::try_from(u128::from(units) * SECOND as u128 / u128::from(per_second.max(1))).unwrap_or(i64::MAX);
        let pay = |settled: i64| Some(settled.max(now).saturating_add(price));
        // The closure never declines.
        let _ = self.settled.fetch_update(Ordering::Relaxed, Ordering::Relaxed, pay);
    }
}

/// Nanoseconds by which use may run ahead of the rate. At least one unit is always possible.
fn burst(per_second: u64) -> i64 {
    BURST_SECONDS * SECOND - SECOND / i64::try_from(per_second.max(1)).unwrap_or(i64::MAX)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn use_above_the_rate_waits() {
        let rate = Rate::default();
        for _ in 0..20 {
            assert_eq!(rate.check(10, SECOND), Ok(()));
            rate.charge(10, 1, SECOND);
        }
        let wait = rate.check(10, SECOND).unwrap_err();
        assert!((1..=SECOND / 10).contains(&wait), "{wait}");
        assert_eq!(rate.check(10, SECOND + wait), Ok(()));
        // A large body is taken whole, and paid for afterwards.
        rate.charge(10, 1_000, 10 * SECOND);
        assert!(rate.check(10, 100 * SECOND).is_err() && rate.check(10, 120 * SECOND).is_ok());
    }

    proptest! {
        /// Whatever the pattern of calls: in any time, at most rate × time and one burst and one body pass.
        #[test]
        fn no_pattern_of_calls_exceeds_the_rate(per_second in 1_u64..1_000, gaps in proptest::collection::vec(0_i64..SECOND / 4, 1..400)) {
            let (rate, mut now, mut passed) = (Rate::default(), SECOND, 0_u64);
            for gap in &gaps {
                now += gap;
                if rate.check(per_second, now).is_ok() {
                    rate.charge(per_second, 1, now);
                    passed += 1;
                }
            }
            let seconds = (now - SECOND) as f64 / SECOND as f64;
            prop_assert!(passed as f64 <= per_second as f64 * (seconds + BURST_SECONDS as f64) + 1.0, "{passed} in {seconds} s");
        }
    }
}
