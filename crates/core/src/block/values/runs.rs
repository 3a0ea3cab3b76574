//! Runs of equal values: how long each is, and the column of what they are.
//!
//! ```text
//! 4  varint number of runs, width byte, packed `length - 1`, encoding byte (any but 4), that encoding of a value a run
//! ```

use super::{
    super::bits::{Reader, pack, put_varint, width},
    BlockError, Encoded, RUNS, decode_flat, encode_flat,
};

/// The column as runs.
pub fn encode(values: &[f64]) -> Encoded {
    let runs: Vec<&[f64]> = values.chunk_by(|a, b| a.to_bits() == b.to_bits()).collect();
    let lengths = || runs.iter().map(|run| run.len() as u64 - 1);
    let each: Vec<f64> = runs.iter().map(|run| run[0]).collect();
    let mut bytes = Vec::new();
    put_varint(&mut bytes, runs.len() as u64);
    let bits = width(lengths().max().unwrap_or(0));
    bytes.push(bits);
    pack(&mut bytes, lengths(), bits);
    let inner = encode_flat(&each);
    bytes.push(inner.encoding);
    bytes.extend_from_slice(&inner.bytes);
    Encoded { encoding: RUNS, bytes }
}

/// Appends `count` doubles.
pub fn decode(count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>) -> Result<(), BlockError> {
    let number = reader.varint("number of runs")?;
    if number == 0 || number > count as u64 {
        return Err(BlockError::Bounds("number of runs"));
    }
    let mut lengths = Vec::with_capacity(number as usize);
    reader.unpack(number as usize, "lengths of runs", |group| lengths.extend(group.iter().map(|length| length.saturating_add(1))))?;
    if lengths.iter().try_fold(0u64, |sum, length| sum.checked_add(*length)) != Some(count as u64) {
        return Err(BlockError::Bounds("lengths of runs"));
    }
    let encoding = reader.byte("encoding of runs")?;
    let mut each = Vec::new();
    decode_flat(encoding, number as usize, reader, &mut each)?;
    for (value, length) in each.into_iter().zip(lengths) {
        out.resize(out.len() + length as usize, value);
    }
    Ok(())
}
