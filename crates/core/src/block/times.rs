//! Encodings of a column of instants.
//!
//! | byte | name | bytes |
//! |---|---|---|
//! | 0 | regular | signed first, varint step: instant `i` is `first + i * step` |
//! | 2 | wavering | signed first, unit, varint step in units, signed least, width byte, packed `r - least`: instant `i` is `first + (i * step + r) * unit` |
//! | 1 | packed steps | signed first, unit (a power of ten of ns, one byte), varint least step, width byte, packed `step - least` |

use super::{
    BlockError,
    bits::{Reader, pack, put_signed, put_varint, width},
};
use crate::time::Nanos;

const REGULAR: u8 = 0;
const PACKED_STEPS: u8 = 1;
const WAVERING: u8 = 2;
const LARGEST_UNIT: u8 = 12;

/// Appends the column to `out` and says in which encoding.
pub fn encode(times: &[Nanos], out: &mut Vec<u8>) -> u8 {
    let first = times.first().copied().unwrap_or_default();
    let steps: Vec<u64> = times.windows(2).map(|pair| pair[1].wrapping_sub(pair[0]).cast_unsigned()).collect();
    put_signed(out, first);
    let (least, greatest) = (steps.iter().copied().min().unwrap_or(0), steps.iter().copied().max().unwrap_or(0));
    if least == greatest {
        put_varint(out, least);
        return REGULAR;
    }
    let unit = unit_of(&steps);
    let scale = 10u64.pow(u32::from(unit));
    out.push(unit);
    let mut units = steps;
    units.iter_mut().for_each(|step| *step /= scale);
    let (least, greatest) = (least / scale, greatest / scale);
    let step_bits = width(greatest - least);
    if let Some(line) = Line::through(&units).filter(|line| line.bits < step_bits) {
        put_varint(out, line.step);
        put_signed(out, line.least);
        out.push(line.bits);
        pack(out, distances(&units, line.step).map(|distance| distance.wrapping_sub(line.least).cast_unsigned()), line.bits);
        return WAVERING;
    }
    put_varint(out, least);
    out.push(step_bits);
    pack(out, units.iter().map(|step| step - least), step_bits);
    PACKED_STEPS
}

/// The largest power of ten of nanoseconds in which all steps are whole.
fn unit_of(steps: &[u64]) -> u8 {
    let is_whole = |unit: u8| steps.iter().all(|step| step.is_multiple_of(10u64.pow(unit.into())));
    // Clocks count in thousands; what they do not show fails at the first step.
    let mut unit = [LARGEST_UNIT, 9, 6, 3].into_iter().find(|unit| is_whole(*unit)).unwrap_or(0);
    while unit < LARGEST_UNIT && is_whole(unit + 1) {
        unit += 1;
    }
    unit
}

/// A straight line beside instants that waver around a regular step. Their distance from it varies half as much as their steps do.
struct Line {
    step: u64,
    least: i64,
    bits: u8,
}

impl Line {
    /// The best of a few lines: sampling steps are round numbers, and their mean is close to them.
    fn through(steps: &[u64]) -> Option<Self> {
        let length = steps.iter().try_fold(0u64, |sum, step| sum.checked_add(*step)).filter(|length| *length < 1 << 62)?;
        let count = steps.len() as u64;
        let mean = (length + count / 2) / count;
        let line = |step: u64| {
            let (least, greatest) = distances(steps, step).fold((i64::MAX, i64::MIN), |(a, b), n| (a.min(n), b.max(n)));
            Self { step, least, bits: width(greatest.wrapping_sub(least).cast_unsigned()) }
        };
        let mut rounded = [1, 10, 100, 1_000].map(|round| (mean + round / 2) / round * round).to_vec();
        rounded.dedup();
        rounded.into_iter().map(line).min_by_key(|line| line.bits)
    }
}

/// How far each instant lies from its place on a line, in units.
fn distances(steps: &[u64], step: u64) -> impl Iterator<Item = i64> {
    let mut distance = 0i64;
    std::iter::once(0).chain(steps.iter().map(move |length| {
        distance = distance.wrapping_add(length.wrapping_sub(step).cast_signed());
        distance
    }))
}

/// Appends `count` instants to `out`.
pub fn decode(encoding: u8, count: usize, reader: &mut Reader<'_>, out: &mut Vec<Nanos>) -> Result<(), BlockError> {
    let mut at = reader.signed("first instant")?;
    out.reserve(count);
    match encoding {
        REGULAR => {
            let step = reader.varint("step of time")?.cast_signed();
            let start = out.len();
            out.resize(start + count, 0);
            // Eight at a time, so that no instant has to wait for the one before it.
            let ahead: [i64; 8] = std::array::from_fn(|i| step.wrapping_mul(i as i64));
            let (eights, rest) = out[start..].as_chunks_mut::<8>();
            for eight in eights {
                *eight = ahead.map(|ahead| at.wrapping_add(ahead));
                at = at.wrapping_add(step.wrapping_mul(8));
            }
            rest.iter_mut().zip(ahead).for_each(|(instant, ahead)| *instant = at.wrapping_add(ahead));
        }
        PACKED_STEPS => {
            let unit = reader.byte("unit of time")?;
            if unit > LARGEST_UNIT {
                return Err(BlockError::Bounds("unit of time"));
            }
            let scale = 10u64.pow(u32::from(unit));
            let least = reader.varint("least step")?;
            out.push(at);
            let first_step = least.wrapping_mul(scale).cast_signed();
            let scale = scale.cast_signed();
            reader.unpack(count - 1, "steps of time", |steps| {
                out.extend(steps.iter().map(|step| {
                    at = at.wrapping_add(first_step).wrapping_add(step.cast_signed().wrapping_mul(scale));
                    at
                }));
            })?;
        }
        WAVERING => {
            let unit = reader.byte("unit of time")?;
            if unit > LARGEST_UNIT {
                return Err(BlockError::Bounds("unit of time"));
            }
            let scale = 10u64.pow(u32::from(unit));
            let step = reader.varint("step of time")?.wrapping_mul(scale).cast_signed();
            let scale = scale.cast_signed();
            at = at.wrapping_add(reader.signed("least distance")?.wrapping_mul(scale));
            reader.unpack(count, "distances", |distances| {
                out.extend(distances.iter().map(|distance| {
                    let time = at.wrapping_add(distance.cast_signed().wrapping_mul(scale));
                    at = at.wrapping_add(step);
                    time
                }));
            })?;
        }
        found => return Err(BlockError::Unknown { part: "encoding of times", found }),
    }
    Ok(())
}
