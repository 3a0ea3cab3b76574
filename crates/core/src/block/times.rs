//! Encodings of a column of instants.
//!
//! | byte | name | bytes |
//! |---|---|---|
//! | 0 | regular | signed first, varint step: instant `i` is `first + i * step` |
//! | 1 | packed steps | signed first, unit (a power of ten of ns, one byte), varint least step, width byte, packed `step - least` |

use super::{
    BlockError,
    bits::{Reader, pack, put_signed, put_varint, width},
};
use crate::time::Nanos;

const REGULAR: u8 = 0;
const PACKED_STEPS: u8 = 1;
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
    let mut unit = 0;
    while unit < LARGEST_UNIT && steps.iter().all(|step| step.is_multiple_of(10u64.pow(u32::from(unit) + 1))) {
        unit += 1;
    }
    let scale = 10u64.pow(u32::from(unit));
    out.push(unit);
    put_varint(out, least / scale);
    let bits = width((greatest - least) / scale);
    out.push(bits);
    pack(out, steps.iter().map(|step| (step - least) / scale), bits);
    PACKED_STEPS
}

/// Appends `count` instants to `out`.
pub fn decode(encoding: u8, count: usize, reader: &mut Reader<'_>, out: &mut Vec<Nanos>) -> Result<(), BlockError> {
    let mut at = reader.signed("first instant")?;
    out.reserve(count);
    match encoding {
        REGULAR => {
            let step = reader.varint("step of time")?.cast_signed();
            for _ in 0..count {
                out.push(at);
                at = at.wrapping_add(step);
            }
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
        found => return Err(BlockError::Unknown { part: "encoding of times", found }),
    }
    Ok(())
}
