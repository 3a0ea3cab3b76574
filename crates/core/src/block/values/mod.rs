//! Encodings of a column of doubles, all without loss, bit for bit.
//!
//! | byte | name | bytes |
//! |---|---|---|
//! | 0 | constant | the double |
//! | 1 | decimal, packed | exponent `e` (one byte), signed least, width byte, packed `n - least`; the value is `n / 10^e` |
//! | 2 | decimal, packed differences | exponent, signed first, signed least difference, width byte, packed `difference - least` |
//! | 3 | plain | the doubles |
//!
//! Decimal scaling: sensors give decimals, and a double that is nearest to a decimal comes back from the integer `n` by one
//! correctly rounded division. (After the published work on adaptive lossless floating-point compression, SIGMOD 2024.)

use super::{
    BlockError,
    bits::{Reader, pack, packed_bytes, put_signed, width},
};

const CONSTANT: u8 = 0;
const DECIMAL: u8 = 1;
const DECIMAL_DIFFERENCES: u8 = 2;
const PLAIN: u8 = 3;
const LARGEST_EXPONENT: u8 = 12;
/// Integers up to here are doubles without loss.
const LARGEST_INTEGER: f64 = 9_007_199_254_740_992.0;

/// Appends the column to `out` and says in which encoding.
pub fn encode(values: &[f64], out: &mut Vec<u8>) -> u8 {
    let Some((&first, rest)) = values.split_first() else { return PLAIN };
    if rest.iter().all(|value| value.to_bits() == first.to_bits()) {
        out.extend_from_slice(&first.to_le_bytes());
        return CONSTANT;
    }
    if let Some((exponent, integers)) = decimals(values) {
        let encoding = encode_integers(exponent, &integers, out);
        if out.len() < values.len() * 8 {
            return encoding;
        }
        out.clear();
    }
    values.iter().for_each(|value| out.extend_from_slice(&value.to_le_bytes()));
    PLAIN
}

fn encode_integers(exponent: u8, integers: &[i64], out: &mut Vec<u8>) -> u8 {
    let offset = |n: i64, least: i64| n.wrapping_sub(least).cast_unsigned();
    let range = |numbers: &mut dyn Iterator<Item = i64>| numbers.fold((i64::MAX, i64::MIN), |(a, b), n| (a.min(n), b.max(n)));
    let (least, greatest) = range(&mut integers.iter().copied());
    let differences = || integers.windows(2).map(|pair| pair[1] - pair[0]);
    let (least_difference, greatest_difference) = range(&mut differences());
    let bits = width(offset(greatest, least));
    let difference_bits = width(offset(greatest_difference, least_difference));
    out.push(exponent);
    if packed_bytes(integers.len(), bits) <= packed_bytes(integers.len(), difference_bits) {
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

/// The least exponent at which every value is an integer over a power of ten, bit for bit, and those integers.
fn decimals(values: &[f64]) -> Option<(u8, Vec<i64>)> {
    let mut exponent = 0;
    for &value in values {
        while integer(value, exponent).is_none() {
            exponent += 1;
            if exponent > LARGEST_EXPONENT {
                return None;
            }
        }
    }
    let integers: Option<Vec<i64>> = values.iter().map(|value| integer(*value, exponent)).collect();
    Some((exponent, integers?))
}

fn integer(value: f64, exponent: u8) -> Option<i64> {
    let scale = 10f64.powi(i32::from(exponent));
    let scaled = (value * scale).round();
    let exact = scaled.abs() <= LARGEST_INTEGER && (scaled / scale).to_bits() == value.to_bits();
    // Negative zero has no integer of its own, and fails the comparison of bits only where the quotient is +0.
    (exact && (scaled as i64 as f64).to_bits() == scaled.to_bits()).then_some(scaled as i64)
}

/// Appends `count` doubles to `out`.
pub fn decode(encoding: u8, count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>) -> Result<(), BlockError> {
    out.reserve(count);
    match encoding {
        CONSTANT => {
            let value = double(reader.take(8, "constant value")?);
            out.resize(out.len() + count, value);
        }
        DECIMAL => {
            let scale = scale(reader)?;
            let least = reader.signed("least value")?;
            reader.unpack(count, "values", |n| out.push(least.wrapping_add(n.cast_signed()) as f64 / scale))?;
        }
        DECIMAL_DIFFERENCES => {
            let scale = scale(reader)?;
            let mut n = reader.signed("first value")?;
            let least = reader.signed("least difference")?;
            out.push(n as f64 / scale);
            reader.unpack(count - 1, "differences", |more| {
                n = n.wrapping_add(least).wrapping_add(more.cast_signed());
                out.push(n as f64 / scale);
            })?;
        }
        PLAIN => out.extend(reader.take(count * 8, "plain values")?.chunks_exact(8).map(double)),
        found => return Err(BlockError::Unknown { part: "encoding of values", found }),
    }
    Ok(())
}

fn scale(reader: &mut Reader<'_>) -> Result<f64, BlockError> {
    let exponent = reader.byte("exponent")?;
    if exponent > LARGEST_EXPONENT {
        return Err(BlockError::Bounds("exponent"));
    }
    Ok(10f64.powi(i32::from(exponent)))
}

/// The double of exactly eight bytes.
fn double(bytes: &[u8]) -> f64 {
    let mut word = [0; 8];
    word.copy_from_slice(bytes);
    f64::from_le_bytes(word)
}
