//! The codec of points at rest: a block is a run of points of one series, compressed.
//!
//! ```text
//! byte 0   version, 1
//! byte 1   encoding of the times   (see `times`)
//! byte 2   encoding of the values  (see `values`)
//! varint   number of points, 1 to 65,536
//! ...      times
//! ...      values
//! 4 bytes  CRC-32 of everything before it, least significant byte first
//! ```
//!
//! Varints are LEB128, signed ones zigzag. Each column takes the encoding that comes out smallest on the block at hand.
//! Decoding never panics: every length is checked before it is used, and bad bytes are a [`BlockError`].

pub mod bits;
mod columns;
mod cut;
mod times;
mod values;

pub use columns::{Columns, Points};
pub use cut::{BLOCK_POINTS, cut};

const MAX_POINTS: u64 = 65_536;
const VERSION: u8 = 1;
const CHECKSUM_BYTES: usize = 4;

/// Why bytes are no block.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BlockError {
    /// The bytes end early.
    #[error("the block ends early, in its {0}")]
    Short(&'static str),
    /// Not what was written.
    #[error("the block's checksum is {found:08x}, its bytes say {computed:08x}: it is damaged")]
    Checksum {
        /// What stands in the block.
        found: u32,
        /// What its bytes add up to.
        computed: u32,
    },
    /// Of a later or unknown format.
    #[error("{part} {found} is not known to this version of Fenetre")]
    Unknown {
        /// Version or encoding.
        part: &'static str,
        /// The byte.
        found: u8,
    },
    /// A number that cannot be right.
    #[error("the block's {0} is out of bounds")]
    Bounds(&'static str),
}

/// Compresses points, which are in order of time, each instant once. Not empty, and no more than 65,536.
pub fn encode(points: Points<'_>) -> Vec<u8> {
    let Points { times, values, rests } = points;
    debug_assert!(!times.is_empty() && times.len() == values.len() && times.len() as u64 <= MAX_POINTS);
    debug_assert!(times.windows(2).all(|pair| pair[0] < pair[1]));
    let mut time_bytes = Vec::new();
    let time_encoding = times::encode(times, &mut time_bytes);
    let mut value_bytes = Vec::new();
    let value_encoding = values::encode(values, rests, &mut value_bytes);
    let mut block = vec![VERSION, time_encoding, value_encoding];
    bits::put_varint(&mut block, times.len() as u64);
    block.extend_from_slice(&time_bytes);
    block.extend_from_slice(&value_bytes);
    let checksum = crc32fast::hash(&block);
    block.extend_from_slice(&checksum.to_le_bytes());
    block
}

/// A column of instants, ascending, for other things at rest than blocks of points: its encoding, then its bytes.
pub(crate) fn put_times(times: &[crate::time::Nanos], out: &mut Vec<u8>) {
    let at = out.len();
    out.push(0);
    out[at] = times::encode(times, out);
}

/// Appends what [`put_times`] wrote.
pub(crate) fn take_times(count: usize, reader: &mut bits::Reader<'_>, out: &mut Vec<crate::time::Nanos>) -> Result<(), BlockError> {
    let encoding = reader.byte("encoding of times")?;
    times::decode(encoding, count, reader, out)
}

/// A column of doubles, with the rests of integers that no double holds.
pub(crate) fn put_values(values: &[f64], rests: &[i16], out: &mut Vec<u8>) {
    let at = out.len();
    out.push(0);
    out[at] = values::encode(values, rests, out);
}

/// Appends what [`put_values`] wrote.
pub(crate) fn take_values(count: usize, reader: &mut bits::Reader<'_>, out: &mut Vec<f64>, rests: &mut Vec<i16>) -> Result<(), BlockError> {
    let encoding = reader.byte("encoding of values")?;
    values::decode(encoding, count, reader, out, rests)
}

/// Appends the points of a block to `out`.
///
/// # Errors
/// [`BlockError`]; `out` then holds what it held before.
pub fn decode(block: &[u8], out: &mut Columns) -> Result<(), BlockError> {
    let body = block.len().checked_sub(CHECKSUM_BYTES).ok_or(BlockError::Short("checksum"))?;
    let (body, checksum) = block.split_at(body);
    let found = u32::from_le_bytes(checksum.try_into().map_err(|_| BlockError::Short("checksum"))?);
    let computed = crc32fast::hash(body);
    if found != computed {
        return Err(BlockError::Checksum { found, computed });
    }
    let before = out.len();
    let decoded = decode_body(body, out);
    if decoded.is_err() {
        out.truncate(before);
    }
    decoded
}

fn decode_body(body: &[u8], out: &mut Columns) -> Result<(), BlockError> {
    let [version, time_encoding, value_encoding, rest @ ..] = body else { return Err(BlockError::Short("header")) };
    if *version != VERSION {
        return Err(BlockError::Unknown { part: "block version", found: *version });
    }
    let mut reader = bits::Reader::new(rest);
    let count = reader.varint("number of points")?;
    if count == 0 || count > MAX_POINTS {
        return Err(BlockError::Bounds("number of points"));
    }
    times::decode(*time_encoding, count as usize, &mut reader, &mut out.times)?;
    values::decode(*value_encoding, count as usize, &mut reader, &mut out.values, &mut out.rests)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::time::SECOND;

    fn round_trip(times: &[i64], values: &[f64]) -> usize {
        let block = encode(Points::of(times, values));
        let mut out = Columns::default();
        decode(&block, &mut out).unwrap();
        assert_eq!(out.times, times);
        assert!(out.values.iter().zip(values).all(|(a, b)| a.to_bits() == b.to_bits()), "{:?} {values:?}", out.values);
        block.len()
    }

    fn every(step: i64, count: usize) -> Vec<i64> {
        (0..count as i64).map(|i| 1_790_000_000 * SECOND + i * step).collect()
    }

    #[test]
    fn values_round_trip_bit_for_bit() {
        let odd = [0.0, -0.0, f64::MIN_POSITIVE / 2.0, f64::INFINITY, f64::NEG_INFINITY, f64::NAN, f64::MAX, 9_007_199_254_740_993.0, 0.1 + 0.2];
        round_trip(&every(SECOND, odd.len()), &odd);
        for value in odd {
            round_trip(&[i64::MIN, i64::MAX], &[value, value]);
        }
        round_trip(&[i64::MIN, -1, 0, 7, i64::MAX], &[1.0, 2.5, 1e-9, -3.0, 1e15]);
    }

    #[test]
    fn sensor_series_compress_well() {
        let level: Vec<f64> = (0..1_024).map(|i| (30_000.0 + (f64::from(i) / 50.0).sin() * 800.0).round() / 100.0).collect();
        assert!(round_trip(&every(30 * SECOND, 1_024), &level) < 1_024 + 200);
        assert!(round_trip(&every(60 * SECOND, 1_024), &[12.6; 1_024]) < 40);
        let counter: Vec<f64> = (0..1_024).map(|i| f64::from(i * 3 + i % 2)).collect();
        assert!(round_trip(&every(60 * SECOND, 1_024), &counter) < 256 + 40);
    }

    #[test]
    fn every_cut_and_every_flipped_bit_is_an_error() {
        let block = encode(Points::of(&every(SECOND + 1, 50), &(0..50).map(|i| f64::from(i) * 0.25).collect::<Vec<_>>()));
        let mut out = Columns::default();
        for cut in 0..block.len() {
            assert!(decode(&block[..cut], &mut out).is_err());
        }
        for bit in 0..block.len() * 8 {
            let mut bad = block.clone();
            bad[bit / 8] ^= 1 << (bit % 8);
            assert!(decode(&bad, &mut out).is_err());
        }
        assert!(out.is_empty());
    }

    /// A body with a right checksum, as a broken writer would leave it.
    fn sealed(mut body: Vec<u8>) -> Vec<u8> {
        let checksum = crc32fast::hash(&body);
        body.extend_from_slice(&checksum.to_le_bytes());
        body
    }

    /// One block of every encoding, as version 1 wrote them: they must be readable for good, and be written so for now.
    #[test]
    fn blocks_of_version_1_stay_as_they_are() {
        let at = |i: i64| 1_790_000_000 * SECOND + i * 30 * SECOND;
        let regular: Vec<i64> = (0..40).map(at).collect();
        let wavering: Vec<i64> = (0..40).map(|i| at(i) + i * i % 7 * 1_000_000).collect();
        let kinds: [(&[i64], Vec<f64>); 8] = [
            (&regular, vec![12.6; 40]),
            (&wavering, (0..40).map(|i| f64::from(i * i % 11) / 10.0 + 300.0).map(|v| (v * 10.0).round() / 10.0).collect()),
            (&regular, (0..40).map(|i| f64::from(i * 7 + i % 3)).collect()),
            (&regular, (0..40).map(|i| f64::from(i / 20)).collect()),
            (&regular, (0..40).map(|i| 1.0 + f64::from(i * 37 % 101) / 103.0).collect()),
            (&regular, (0..40).map(|i| if i % 20 == 7 { 1.0 / 3.0 } else { f64::from(i * i % 13) / 10.0 }).collect()),
            (&regular, (0..40u64).map(|i| f64::from_bits(i.wrapping_mul(0x9e37_79b9_7f4a_7c15))).collect()),
            (&[i64::MIN, 0, i64::MAX], vec![-0.0, 5e-324, f64::INFINITY]),
        ];
        let written: String = kinds
            .iter()
            .map(|(times, values)| {
                round_trip(times, values);
                let block = encode(Points::of(times, values));
                format!("times {}, values {}: {}\n", block[1], block[2], block.iter().map(|byte| format!("{byte:02x}")).collect::<String>())
            })
            .collect();
        insta::assert_snapshot!(written);
    }

    #[test]
    fn a_later_version_is_named() {
        let error = decode(&sealed(vec![2, 0, 0, 1]), &mut Columns::default()).unwrap_err();
        assert_eq!(error.to_string(), "block version 2 is not known to this version of Fenetre");
    }

    proptest! {
        #[test]
        fn any_points_round_trip(
            steps in prop::collection::vec((1i64..5_000_000_000_000, any::<u64>()), 1..300), start in any::<i32>(), decimals in 0i32..5,
        ) {
            let mut at = i64::from(start) * SECOND;
            let times: Vec<i64> = steps.iter().map(|(step, _)| { at += step; at }).collect();
            let raw: Vec<f64> = steps.iter().map(|(_, bits)| f64::from_bits(*bits)).collect();
            round_trip(&times, &raw);
            let scaled: Vec<f64> = steps.iter().map(|(_, bits)| (bits % 100_000) as f64 / 10f64.powi(decimals)).collect();
            round_trip(&times, &scaled);
        }

        #[test]
        fn junk_with_a_right_checksum_never_panics(mut body in prop::collection::vec(any::<u8>(), 0..200), time in 0u8..4, value in 0u8..12) {
            if body.len() > 3 { body[0] = VERSION; body[1] = time; body[2] = value; }
            let mut out = Columns::default();
            if decode(&sealed(body), &mut out).is_ok() {
                prop_assert_eq!(out.times.len(), out.values.len());
                prop_assert!(out.rests.is_empty() || out.rests.len() == out.values.len());
            }
        }
    }
}
