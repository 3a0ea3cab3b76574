//! Decimals as integers: a value is `n / 10^e`, one exponent for the block, and `n` is packed.
//!
//! Sensors give decimals, and a double that is nearest to a decimal comes back from its integer by one correctly rounded division.
//! (After the published work on adaptive lossless floating-point compression, SIGMOD 2024.)
//!
//! ```text
//! 1  exponent (one byte), signed least, width byte, packed `n - least`
//! 2  exponent, signed first, signed least difference, width byte, packed `difference - least`
//! 6  varint number of patches, for each: varint places since the last one, the double; encoding byte (1 or 2), that encoding
//! ```
//!
//! A patch is a value that is no decimal; the integer in its place repeats the one before it.

use super::{
    super::bits::{Reader, pack, packed_bytes, put_signed, put_varint, width},
    BlockError, DECIMAL, DECIMAL_DIFFERENCES, DECIMAL_PATCHED, Encoded, double,
};

const LARGEST_EXPONENT: u8 = 12;
/// Integers up to here are doubles without loss.
const LARGEST_INTEGER: f64 = 9_007_199_254_740_992.0;
/// At most one value in so many may be a patch.
const VALUES_A_PATCH: usize = 16;

/// The smallest decimal encoding, where nearly all values are decimals.
pub fn encode(values: &[f64]) -> Option<Encoded> {
    let exponent = exponent_of(values)?;
    let mut patches = Vec::new();
    let mut integers: Vec<i64> = Vec::with_capacity(values.len());
    for (place, &value) in values.iter().enumerate() {
        let integer = integer(value, exponent);
        if integer.is_none() {
            patches.push((place, value));
        }
        integers.push(integer.or_else(|| integers.last().copied()).unwrap_or(0));
    }
    if patches.len() > values.len() / VALUES_A_PATCH {
        return None;
    }
    let mut bytes = Vec::new();
    if patches.is_empty() {
        let encoding = encode_integers(exponent, &integers, &mut bytes);
        return Some(Encoded { encoding, bytes });
    }
    put_varint(&mut bytes, patches.len() as u64);
    let mut before = 0;
    for (place, value) in patches {
        put_varint(&mut bytes, (place - before) as u64);
        bytes.extend_from_slice(&value.to_le_bytes());
        before = place;
    }
    let mut packed = Vec::new();
    bytes.push(encode_integers(exponent, &integers, &mut packed));
    bytes.extend_from_slice(&packed);
    Some(Encoded { encoding: DECIMAL_PATCHED, bytes })
}

/// The least exponent at which nearly all values are integers over a power of ten.
fn exponent_of(values: &[f64]) -> Option<u8> {
    let allowed = values.len() / VALUES_A_PATCH;
    let (mut exponent, mut odd) = (0, 0);
    for &value in values {
        if integer(value, exponent).is_some() {
            continue;
        }
        match (exponent + 1..=LARGEST_EXPONENT).find(|larger| integer(value, *larger).is_some()) {
            Some(larger) => exponent = larger,
            None => {
                odd += 1;
                if odd > allowed {
                    return None;
                }
            }
        }
    }
    Some(exponent)
}

fn integer(value: f64, exponent: u8) -> Option<i64> {
    let scale = POWERS[usize::from(exponent)];
    let scaled = (value * scale).round();
    let exact = scaled.abs() <= LARGEST_INTEGER && (scaled / scale).to_bits() == value.to_bits();
    // Negative zero has no integer of its own.
    (exact && (scaled as i64 as f64).to_bits() == scaled.to_bits()).then_some(scaled as i64)
}

const POWERS: [f64; LARGEST_EXPONENT as usize + 1] = [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12];

fn encode_integers(exponent: u8, integers: &[i64], out: &mut Vec<u8>) -> u8 {
    let offset = |n: i64, least: i64| n.wrapping_sub(least).cast_unsigned();
    let range = |numbers: &mut dyn Iterator<Item = i64>| numbers.fold((i64::MAX, i64::MIN), |(a, b), n| (a.min(n), b.max(n)));
    let (least, greatest) = range(&mut integers.iter().copied());
    // Integers are below 2^53, so that their differences do not overflow.
    let differences = || integers.windows(2).map(|pair| pair[1] - pair[0]);
    let (least_difference, greatest_difference) = range(&mut differences());
    let bits = width(offset(greatest, least));
    let difference_bits = width(offset(greatest_difference, least_difference));
    out.push(exponent);
    if integers.len() < 2 || packed_bytes(integers.len(), bits) <= packed_bytes(integers.len(), difference_bits) {
        put_signed(out, least);
        out.push(bits);
        pack(out, integers.iter().map(|n| offset(*n, least)), bits);
        return DECIMAL;
    }
    put_signed(out, integers[0]);
    put_signed(out, least_difference);
    out.push(difference_bits);
    pack(out, differences().map(|n| offset(n, least_difference)), difference_bits);
    DECIMAL_DIFFERENCES
}

/// Integers below this fit the fraction of a double.
const SMALL: u64 = 1 << 52;

/// An integer below 2^52 as a double: put into the fraction of 2^52, which is then taken away again.
fn small_to_double(n: u64) -> f64 {
    const TWO_TO_52: f64 = SMALL as f64;
    f64::from_bits(n | TWO_TO_52.to_bits()) - TWO_TO_52
}

/// Appends `count` doubles.
pub fn decode(encoding: u8, count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>) -> Result<(), BlockError> {
    let exponent = reader.byte("exponent")?;
    let scale = *POWERS.get(usize::from(exponent)).ok_or(BlockError::Bounds("exponent"))?;
    if encoding == DECIMAL {
        let least = reader.signed("least value")?;
        let least_value = least as f64;
        return reader.unpack(count, "values", |offsets| {
            // Sums of integers below 2^53 are exact as doubles too, and the small ones become doubles without leaving vector registers.
            if offsets.iter().fold(0, |all, n| all | n) < SMALL {
                out.extend(offsets.iter().map(|n| (small_to_double(*n) + least_value) / scale));
            } else {
                out.extend(offsets.iter().map(|n| least.wrapping_add(n.cast_signed()) as f64 / scale));
            }
        });
    }
    let mut n = reader.signed("first value")?;
    let least = reader.signed("least difference")?;
    out.push(n as f64 / scale);
    reader.unpack(count - 1, "differences", |differences| {
        out.extend(differences.iter().map(|more| {
            n = n.wrapping_add(least).wrapping_add(more.cast_signed());
            n as f64 / scale
        }));
    })
}

/// Appends `count` doubles, some of them patches.
pub fn decode_patched(count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>) -> Result<(), BlockError> {
    let number = reader.varint("number of patches")?;
    if number > count as u64 {
        return Err(BlockError::Bounds("number of patches"));
    }
    let mut patches = Vec::with_capacity(number as usize);
    let mut place = 0u64;
    for _ in 0..number {
        place = place.saturating_add(reader.varint("place of a patch")?);
        if place >= count as u64 {
            return Err(BlockError::Bounds("place of a patch"));
        }
        patches.push((place as usize, double(reader.take(8, "patch")?)));
    }
    let encoding = match reader.byte("encoding under the patches")? {
        known @ (DECIMAL | DECIMAL_DIFFERENCES) => known,
        found => return Err(BlockError::Unknown { part: "encoding under the patches", found }),
    };
    let start = out.len();
    decode(encoding, count, reader, out)?;
    for (place, value) in patches {
        out[start + place] = value;
    }
    Ok(())
}
