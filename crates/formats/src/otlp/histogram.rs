//! Both histograms of OTLP as the one that Fenetre has.

use fenetre_core::model::{Cause, Histogram, Refusal};
use opentelemetry_proto::tonic::metrics::v1::{ExponentialHistogramDataPoint, HistogramDataPoint, exponential_histogram_data_point::Buckets};

/// One with bounds of its own.
pub fn explicit(point: &HistogramDataPoint) -> Result<Histogram, Refusal> {
    let counts = if point.bucket_counts.is_empty() { vec![point.count] } else { point.bucket_counts.clone() };
    Ok(Histogram { bounds: point.explicit_bounds.clone(), counts, sum: point.sum.unwrap_or(0.0) })
}

/// Buckets are laid out in steps of so many, so that few layouts come of points whose ranges differ.
const STEP: i64 = 32;

/// One whose bounds are powers of `2^(2^-scale)`: bucket `i` holds what is above `base^i` and not above `base^(i+1)`.
pub fn exponential(point: &ExponentialHistogramDataPoint) -> Result<Histogram, Refusal> {
    let refuse = |reason: &str| Err(Refusal::of(Cause::Value, "histogram", reason.to_owned()));
    if !(-10..=20).contains(&point.scale) {
        return refuse("its scale lies outside -10 to 20");
    }
    let bound = |index: i64| (index as f64 * (-f64::from(point.scale)).exp2()).exp2();
    let side = |buckets: Option<&Buckets>| {
        let (offset, counts) = buckets.map_or((0, &[][..]), |buckets| (i64::from(buckets.offset), &buckets.bucket_counts));
        if counts.is_empty() {
            return (0, Vec::new());
        }
        let first = offset.div_euclid(STEP) * STEP;
        let end = (offset + counts.len() as i64 + STEP - 1).div_euclid(STEP) * STEP;
        let mut laid = vec![0; (end - first) as usize];
        laid[(offset - first) as usize..][..counts.len()].copy_from_slice(counts);
        (first, laid)
    };
    let ((below_first, below), (above_first, above)) = (side(point.negative.as_ref()), side(point.positive.as_ref()));
    let (mut bounds, mut counts) = (Vec::new(), Vec::new());
    if !below.is_empty() {
        // From the most negative up: what is below the last bound comes first, and is empty.
        let end = below_first + below.len() as i64;
        bounds.push(-bound(end));
        counts.push(0);
        for (i, count) in below.iter().enumerate().rev() {
            bounds.push(-bound(below_first + i as i64));
            counts.push(*count);
        }
    }
    counts.push(point.zero_count);
    if above.is_empty() {
        bounds.push(point.zero_threshold);
        counts.push(0);
    } else {
        bounds.push(bound(above_first));
        for (i, count) in above.iter().enumerate() {
            bounds.push(bound(above_first + i as i64 + 1));
            counts.push(*count);
        }
        counts.push(0);
    }
    if !bounds.iter().all(|bound| bound.is_finite()) || !bounds.is_sorted_by(|a, b| a < b) {
        return refuse("its buckets reach beyond the range of 64-bit floats");
    }
    Ok(Histogram { bounds, counts, sum: point.sum.unwrap_or(0.0) })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn buckets(offset: i32, counts: &[u64]) -> Option<Buckets> {
        Some(Buckets { offset, bucket_counts: counts.to_vec() })
    }

    #[test]
    fn an_exponential_histogram_keeps_every_observation_between_its_powers() {
        let point = ExponentialHistogramDataPoint {
            scale: 0,
            zero_count: 3,
            positive: buckets(1, &[5, 7]),
            negative: buckets(-1, &[2]),
            sum: Some(30.0),
            ..Default::default()
        };
        let histogram = exponential(&point).unwrap();
        histogram.check().unwrap();
        assert_eq!(histogram.count(), 17);
        // Above 2 and not above 4, above 4 and not above 8, and from -1 to below -0.5.
        let between = |low: f64, high: f64| {
            histogram.counts[histogram.bounds.iter().position(|bound| *bound == high).unwrap()] * u64::from(histogram.bounds.contains(&low))
        };
        assert_eq!((between(2.0, 4.0), between(4.0, 8.0), between(-1.0, -0.5)), (5, 7, 2));
    }

    #[test]
    fn points_whose_ranges_differ_a_little_share_a_layout() {
        let layout = |offset| {
            exponential(&ExponentialHistogramDataPoint { scale: 3, positive: buckets(offset, &[1, 2, 3]), ..Default::default() }).unwrap().bounds
        };
        assert_eq!(layout(3), layout(20));
    }

    #[test]
    fn invalid_histograms_are_refused() {
        assert!(exponential(&ExponentialHistogramDataPoint { scale: 99, ..Default::default() }).is_err());
        assert!(exponential(&ExponentialHistogramDataPoint { scale: -10, positive: buckets(2, &[1]), ..Default::default() }).is_err());
        exponential(&ExponentialHistogramDataPoint::default()).unwrap().check().unwrap();
        assert!(explicit(&HistogramDataPoint { count: 4, ..Default::default() }).unwrap().check().is_ok());
    }
}
