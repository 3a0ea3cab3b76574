//! Decimals that were lost among the last digits of a double. What is computed of decimals is one again, but for rounding; found, it packs into a third of
//! the room.

const POWERS: [f64; 13] = [1.0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12];

/// The decimal with the fewest places that lies within `error` of a value; the value where there is none. Where doubles are so far apart, or the error
/// is so large, that any number would be one, there is none either.
pub fn shortest_within(value: f64, error: f64) -> f64 {
    for scale in POWERS {
        let scaled = value * scale;
        let slack = error * scale + scaled.abs() * f64::EPSILON;
        // Of all numbers, one in so many would be taken for a decimal.
        let is_telling = slack < 1.0 / 64.0;
        if !is_telling {
            break;
        }
        let whole = scaled.round();
        if (scaled - whole).abs() <= slack {
            return whole / scale;
        }
    }
    value
}

/// The decimal that a sum of decimals is.
pub fn of_sum(sum: f64) -> f64 {
    // Rounding adds up slowly: even of a million terms, in lanes, it stays below this.
    shortest_within(sum, 4e-15 * sum.abs())
}

/// Whether two numbers differ by no more than rounding, where what they were computed of is of some size.
pub fn agree(a: f64, b: f64, size: f64) -> bool {
    (a - b).abs() <= 1e-13 * size.abs()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn sums_of_decimals_stay_decimal(numbers in prop::collection::vec(-100_000i64..100_000, 1..500), places in 0i32..4) {
            let scale = 10f64.powi(places);
            let sum: f64 = numbers.iter().map(|number| *number as f64 / scale).sum();
            let exact = numbers.iter().sum::<i64>() as f64 / scale;
            let found = of_sum(sum);
            prop_assert!((found - sum).abs() <= 5e-15 * sum.abs());
            // If most of it cancels, the rest cannot be distinguished from rounding.
            let is_clear = (sum - exact).abs() <= 4e-15 * sum.abs();
            prop_assert!(!is_clear || found == exact, "{} {} {}", sum, found, exact);
        }

        #[test]
        fn shortened_values_stay_within_the_error(value in any::<f64>(), error in 0.0f64..1e-3) {
            let found = shortest_within(value, error);
            prop_assert!(found.to_bits() == value.to_bits() || (found - value).abs() <= error + 4.0 * f64::EPSILON * value.abs());
        }
    }

    #[test]
    fn the_fewest_places_are_taken_and_odd_values_stay() {
        assert_eq!(of_sum(0.1 + 0.2), 0.3);
        assert_eq!(shortest_within(12.499_999_999_7, 1e-9), 12.5);
        assert_eq!(shortest_within(1.0 / 3.0, 1e-15), 1.0 / 3.0);
        assert_eq!(shortest_within(7.3, 1.0), 7.3, "with such an error everything is a whole number");
        for odd in [0.0, -0.0, f64::INFINITY, f64::NEG_INFINITY, f64::NAN, f64::MAX, 5e-324] {
            assert_eq!(shortest_within(odd, 0.0).to_bits(), odd.to_bits());
        }
    }
}
