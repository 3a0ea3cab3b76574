//! Columns with integers that no double holds, which counters of 64 bits reach.
//!
//! ```text
//! 7  signed first, signed least difference, width byte, packed `difference - least`: integers of 64 bits, signed
//! 8  varint zigzag of the least rest, width byte, packed `rest - least`, encoding byte (any but 4, 7, 8), that encoding of the doubles
//! ```
//!
//! A value is the double nearest to the integer, and its rest is what is missing. Encoding 7 keeps the integers themselves, 8 is for
//! columns that hold other numbers beside them.

use super::{
    super::bits::{Reader, pack, put_signed, width},
    BlockError, Encoded, INTEGERS, RESTS, decode_flat, encode_flat,
};
use crate::model::split_integer;

/// The column with its rests, of which at least one is not zero.
pub fn encode(values: &[f64], rests: &[i16]) -> Encoded {
    integers(values, rests).map_or_else(|| beside(values, rests), |integers| as_integers(&integers))
}

/// The integers that all of the values stand for, where they do.
fn integers(values: &[f64], rests: &[i16]) -> Option<Vec<i64>> {
    let whole = |(value, rest): (&f64, &i16)| {
        let is_integer = value.trunc().to_bits() == value.to_bits() && value.abs() < 2f64.powi(64) && (*value != 0.0 || value.is_sign_positive());
        is_integer.then(|| i64::try_from(*value as i128 + i128::from(*rest)).ok()).flatten()
    };
    values.iter().zip(rests).map(whole).collect()
}

fn as_integers(integers: &[i64]) -> Encoded {
    let differences = || integers.windows(2).map(|pair| pair[1].wrapping_sub(pair[0]));
    let (least, greatest) = (differences().min().unwrap_or(0), differences().max().unwrap_or(0));
    let mut bytes = Vec::new();
    put_signed(&mut bytes, integers[0]);
    put_signed(&mut bytes, least);
    let bits = width(greatest.wrapping_sub(least).cast_unsigned());
    bytes.push(bits);
    pack(&mut bytes, differences().map(|difference| difference.wrapping_sub(least).cast_unsigned()), bits);
    Encoded { encoding: INTEGERS, bytes }
}

fn beside(values: &[f64], rests: &[i16]) -> Encoded {
    let (least, greatest) = (rests.iter().copied().min().unwrap_or(0), rests.iter().copied().max().unwrap_or(0));
    let offset = |rest: i16| (i64::from(rest) - i64::from(least)).cast_unsigned();
    let mut bytes = Vec::new();
    put_signed(&mut bytes, least.into());
    let bits = width(offset(greatest));
    bytes.push(bits);
    pack(&mut bytes, rests.iter().map(|rest| offset(*rest)), bits);
    let flat = encode_flat(values);
    bytes.push(flat.encoding);
    bytes.extend_from_slice(&flat.bytes);
    Encoded { encoding: RESTS, bytes }
}

/// Appends `count` integers as doubles and rests; `rests` has as many entries as `out` before.
pub fn decode_integers(count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>, rests: &mut Vec<i16>) -> Result<(), BlockError> {
    let mut integer = reader.signed("first integer")?;
    let least = reader.signed("least difference")?;
    let mut put = |integer: i64| {
        let (double, rest) = split_integer(integer.into());
        out.push(double);
        rests.push(rest);
    };
    put(integer);
    reader.unpack(count - 1, "differences", |differences| {
        for more in differences {
            integer = integer.wrapping_add(least).wrapping_add(more.cast_signed());
            put(integer);
        }
    })
}

/// Appends `count` doubles and their rests; `rests` has as many entries as `out` before.
pub fn decode_beside(count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>, rests: &mut Vec<i16>) -> Result<(), BlockError> {
    let least = reader.signed("least rest")?;
    let mut outside = false;
    reader.unpack(count, "rests", |group| {
        rests.extend(group.iter().map(|more| {
            let rest = i16::try_from(least.saturating_add_unsigned(*more));
            outside |= rest.is_err();
            rest.unwrap_or(0)
        }));
    })?;
    if outside {
        return Err(BlockError::Bounds("rests"));
    }
    let encoding = reader.byte("encoding beside the rests")?;
    decode_flat(encoding, count, reader, out)
}

#[cfg(test)]
mod tests {
    use super::{
        super::{decode, encode as encode_any},
        *,
    };

    fn round_trip(integers: &[i128], wanted: u8) -> usize {
        let (values, rests): (Vec<f64>, Vec<i16>) = integers.iter().map(|integer| split_integer(*integer)).unzip();
        let mut bytes = Vec::new();
        let encoding = encode_any(&values, &rests, &mut bytes);
        let (mut out, mut found) = (Vec::new(), Vec::new());
        decode(encoding, values.len(), &mut Reader::new(&bytes), &mut out, &mut found).unwrap();
        assert_eq!((encoding, out, found), (wanted, values, rests));
        bytes.len()
    }

    #[test]
    fn counters_beyond_doubles_stay_whole_and_small() {
        let start = 1i128 << 60;
        assert!(round_trip(&(0..1_000).map(|i| start + i * 1_500 + i % 7).collect::<Vec<_>>(), INTEGERS) < 1_000);
        round_trip(&[i128::from(i64::MIN) + 1, i128::from(i64::MAX), i128::from(i64::MIN) + 1], INTEGERS);
        round_trip(&[i128::from(u64::MAX), 0, i128::from(u64::MAX) - 1], RESTS);
    }

    #[test]
    fn a_fraction_beside_an_integer_beyond_doubles_stays() {
        let (values, rests) = ([0.5, 9_007_199_254_740_992.0, -0.0], [0, 1, 0]);
        let encoded = encode(&values, &rests);
        let (mut out, mut found) = (Vec::new(), Vec::new());
        decode(encoded.encoding, 3, &mut Reader::new(&encoded.bytes), &mut out, &mut found).unwrap();
        assert_eq!((encoded.encoding, found.as_slice()), (RESTS, rests.as_slice()));
        assert!(out.iter().zip(values).all(|(a, b)| a.to_bits() == b.to_bits()));
    }
}
