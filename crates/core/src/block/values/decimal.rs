//! Decimals as integers: a value is `n / 10^e`, one exponent for the block, and `n` is packed.
//!
//! Sensors give decimals, and a double nearest to a decimal is restored from its integer by one correctly rounded division.
//! (After the published work on adaptive lossless floating-point compression, SIGMOD 2024.)
//!
//! ```text
//! 1  exponent (one byte), signed least, width byte, packed `n - least`
//! 2  exponent, signed first, signed least difference, width byte, packed `difference - least`
//! 9  exponent, then for each 128 values: signed least (what it is above the one before), width byte, packed `n - least`
//! 10 exponent, signed first, then the differences in the same form
//! 6  varint number of patches, for each: varint places since the last one, the double; encoding byte (1, 2, 9 or 10), that encoding
//! ```
//!
//! A patch is a value that is no decimal; the integer in its place repeats the one before it.

use super::{
    super::bits::{Reader, pack, packed_bytes, put_signed, put_varint, signed_bytes, width},
    BlockError, DECIMAL, DECIMAL_DIFFERENCES, DECIMAL_PATCHED, Encoded, FRAMES, FRAMES_OF_DIFFERENCES, double,
};

const LARGEST_EXPONENT: u8 = 12;
/// Integers up to here are doubles without loss.
const LARGEST_INTEGER: f64 = 9_007_199_254_740_992.0;
/// At most one value in so many may be a patch.
const VALUES_A_PATCH: usize = 16;

/// The smallest decimal encoding, where nearly all values are decimals.
pub fn encode(values: &[f64]) -> Option<Encoded> {
    let Decimals { exponent, integers, patches } = Decimals::of(values)?;
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

/// Values as integers over a power of ten, and those that are none.
struct Decimals {
    exponent: u8,
    integers: Vec<i64>,
    patches: Vec<(usize, f64)>,
}

impl Decimals {
    /// With the least exponent at which nearly all values are integers; `None` where too many are not.
    fn of(values: &[f64]) -> Option<Self> {
        let mut found = Self { exponent: 0, integers: Vec::with_capacity(values.len()), patches: Vec::new() };
        let mut place = 0;
        while let Some(&value) = values.get(place) {
            place += 1;
            if let Some(integer) = integer(value, found.exponent) {
                found.integers.push(integer);
            } else if let Some(larger) = (found.exponent + 1..=LARGEST_EXPONENT).find(|larger| integer(value, *larger).is_some()) {
                // From the beginning with more decimals.
                found.exponent = larger;
                found.integers.clear();
                found.patches.clear();
                place = 0;
            } else {
                found.patches.push((place - 1, value));
                found.integers.push(found.integers.last().copied().unwrap_or(0));
                if found.patches.len() > values.len() / VALUES_A_PATCH {
                    return None;
                }
            }
        }
        Some(found)
    }
}

fn integer(value: f64, exponent: u8) -> Option<i64> {
    let scale = POWERS[usize::from(exponent)];
    let scaled = nearest(value * scale);
    let exact = scaled.abs() <= LARGEST_INTEGER && (scaled / scale).to_bits() == value.to_bits();
    // Negative zero has no integer of its own.
    (exact && (scaled as i64 as f64).to_bits() == scaled.to_bits()).then_some(scaled as i64)
}

/// The nearest integer; of two that are equally near either, since neither is then a value's own. Small ones are found by pushing the
/// fraction out of a double, which takes two additions where rounding takes a call.
fn nearest(value: f64) -> f64 {
    const PUSH: f64 = 1.5 * SMALL as f64;
    if value.abs() < SMALL as f64 / 4.0 { (value + PUSH) - PUSH } else { value.round() }
}

const POWERS: [f64; LARGEST_EXPONENT as usize + 1] = [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12];

fn encode_integers(exponent: u8, integers: &[i64], out: &mut Vec<u8>) -> u8 {
    // Integers are below 2^53, so that their differences do not overflow.
    let differences: Vec<i64> = integers.windows(2).map(|pair| pair[1] - pair[0]).collect();
    out.push(exponent);
    // What changes its course is narrower in short frames than as a whole, and noise has fewer outliers in them.
    let ways = [
        (DECIMAL, integers, integers.len()),
        (FRAMES, integers, FRAME),
        (DECIMAL_DIFFERENCES, differences.as_slice(), integers.len()),
        (FRAMES_OF_DIFFERENCES, differences.as_slice(), FRAME),
    ];
    let mut first = Vec::new();
    put_signed(&mut first, integers[0]);
    let size = |(way, numbers, frame): &(u8, &[i64], usize)| {
        let beside = if *way == DECIMAL || *way == FRAMES { 0 } else { first.len() };
        beside + frames_size(numbers, *frame)
    };
    let usable = if differences.is_empty() { 2 } else { 4 };
    let (way, numbers, frame) = ways.into_iter().take(usable).min_by_key(size).unwrap_or(ways[0]);
    if way != DECIMAL && way != FRAMES {
        out.extend_from_slice(&first);
    }
    put_frames(out, numbers, frame);
    way
}

/// Values of a frame: as many as two groups that are unpacked together.
const FRAME: usize = 128;

fn offset(n: i64, least: i64) -> u64 {
    n.wrapping_sub(least).cast_unsigned()
}

/// Least of a frame's numbers, and the width of what they are above it.
fn bounds(frame: &[i64]) -> (i64, u8) {
    let (least, greatest) = frame.iter().fold((i64::MAX, i64::MIN), |(a, b), n| (a.min(*n), b.max(*n)));
    (least, width(offset(greatest, least)))
}

/// Bytes that [`put_frames`] would append.
fn frames_size(numbers: &[i64], frame: usize) -> usize {
    let mut before = 0;
    let size = |frame: &[i64]| {
        let (least, bits) = bounds(frame);
        let step = least.wrapping_sub(std::mem::replace(&mut before, least));
        signed_bytes(step) + 1 + packed_bytes(frame.len(), bits)
    };
    numbers.chunks(frame).map(size).sum()
}

/// Appends numbers in frames of so many, each by its least and packed by its own width.
fn put_frames(out: &mut Vec<u8>, numbers: &[i64], frame: usize) {
    let mut before = 0;
    for frame in numbers.chunks(frame) {
        let (least, bits) = bounds(frame);
        put_signed(out, least.wrapping_sub(before));
        before = least;
        out.push(bits);
        pack(out, frame.iter().map(|n| offset(*n, least)), bits);
    }
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
    let put = |least: i64, offsets: &[u64], out: &mut Vec<f64>| {
        // Sums of integers below 2^53 are exact as doubles too, and the small ones become doubles without leaving vector registers.
        if offsets.iter().fold(0, |all, n| all | n) < SMALL {
            let least = least as f64;
            out.extend(offsets.iter().map(|n| (small_to_double(*n) + least) / scale));
        } else {
            out.extend(offsets.iter().map(|n| least.wrapping_add(n.cast_signed()) as f64 / scale));
        }
    };
    match encoding {
        DECIMAL => {
            let least = reader.signed("least value")?;
            return reader.unpack(count, "values", |offsets| put(least, offsets, out));
        }
        FRAMES => {
            let mut least = 0i64;
            for start in (0..count).step_by(FRAME) {
                least = least.wrapping_add(reader.signed("least value")?);
                reader.unpack(FRAME.min(count - start), "values", |offsets| put(least, offsets, out))?;
            }
            return Ok(());
        }
        _ => {}
    }
    let mut n = reader.signed("first value")?;
    out.push(n as f64 / scale);
    let (mut least, frame) = (0i64, if encoding == FRAMES_OF_DIFFERENCES { FRAME } else { count });
    for start in (0..count - 1).step_by(frame) {
        least = least.wrapping_add(reader.signed("least difference")?);
        reader.unpack(frame.min(count - 1 - start), "differences", |differences| {
            out.extend(differences.iter().map(|more| {
                n = n.wrapping_add(least).wrapping_add(more.cast_signed());
                n as f64 / scale
            }));
        })?;
    }
    Ok(())
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
        known @ (DECIMAL | DECIMAL_DIFFERENCES | FRAMES | FRAMES_OF_DIFFERENCES) => known,
        found => return Err(BlockError::Unknown { part: "encoding under the patches", found }),
    };
    let start = out.len();
    decode(encoding, count, reader, out)?;
    for (place, value) in patches {
        out[start + place] = value;
    }
    Ok(())
}
