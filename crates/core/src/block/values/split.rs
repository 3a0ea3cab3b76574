//! Full-precision doubles, split: the high bits, of which a block has few different ones, by a dictionary; the low bits as they are.
//!
//! ```text
//! 5  number of low bits (one byte, 48 to 63), varint size of the dictionary, its entries (two bytes each, ascending),
//!    width byte, packed places in the dictionary, width byte, packed low bits
//! ```
//!
//! (After the published work on adaptive lossless floating-point compression, SIGMOD 2024, its scheme for real doubles.)

use super::{
    super::bits::{Reader, pack, packed_bytes, put_varint, width},
    BlockError, Encoded, SPLIT,
};

const MIN_LOW_BITS: u8 = 48;
const MAX_LOW_BITS: u8 = 63;

/// The column split where it comes out smallest.
pub fn encode(values: &[f64]) -> Option<Encoded> {
    // Sixteen high bits are all that is ever put into the dictionary: shorter ones are prefixes of these.
    let mut highs: Vec<u16> = values.iter().map(|value| (value.to_bits() >> MIN_LOW_BITS) as u16).collect();
    highs.sort_unstable();
    highs.dedup();
    let entries = |low_bits: u8| {
        let mut entries: Vec<u16> = highs.iter().map(|high| high >> (low_bits - MIN_LOW_BITS)).collect();
        entries.dedup();
        entries
    };
    let size = |low_bits: u8| {
        let entries = entries(low_bits).len();
        entries * 2 + packed_bytes(values.len(), width(entries as u64 - 1)) + packed_bytes(values.len(), low_bits)
    };
    let low_bits = (MIN_LOW_BITS..=MAX_LOW_BITS).min_by_key(|low_bits| size(*low_bits)).filter(|_| !values.is_empty())?;
    let entries = entries(low_bits);
    let mut bytes = vec![low_bits];
    put_varint(&mut bytes, entries.len() as u64);
    entries.iter().for_each(|entry| bytes.extend_from_slice(&entry.to_le_bytes()));
    let bits = width(entries.len() as u64 - 1);
    bytes.push(bits);
    // Each entry was made from a value's own bits, so the search always finds one.
    let place = |value: &f64| entries.partition_point(|entry| u64::from(*entry) < value.to_bits() >> low_bits) as u64;
    pack(&mut bytes, values.iter().map(place), bits);
    bytes.push(low_bits);
    let mask = (1u64 << low_bits) - 1;
    pack(&mut bytes, values.iter().map(|value| value.to_bits() & mask), low_bits);
    Some(Encoded { encoding: SPLIT, bytes })
}

/// Appends `count` doubles.
pub fn decode(count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>) -> Result<(), BlockError> {
    let low_bits = reader.byte("number of low bits")?;
    if !(MIN_LOW_BITS..=MAX_LOW_BITS).contains(&low_bits) {
        return Err(BlockError::Bounds("number of low bits"));
    }
    let number = reader.varint("size of the dictionary")?;
    if number == 0 || number > 1 << 16 {
        return Err(BlockError::Bounds("size of the dictionary"));
    }
    let entries = reader.take(number as usize * 2, "dictionary")?;
    let high = |place: usize| u64::from(u16::from_le_bytes([entries[place * 2], entries[place * 2 + 1]])) << low_bits;
    let start = out.len();
    let mut outside = false;
    reader.unpack(count, "places in the dictionary", |places| {
        outside |= places.iter().any(|place| *place >= number);
        out.extend(places.iter().map(|place| f64::from_bits(high((*place).min(number - 1) as usize))));
    })?;
    if outside {
        return Err(BlockError::Bounds("places in the dictionary"));
    }
    let mut at = start;
    reader.unpack(count, "low bits", |lows| {
        for (slot, low) in out[at..].iter_mut().zip(lows) {
            *slot = f64::from_bits(slot.to_bits() | low);
        }
        at += lows.len();
    })
}
