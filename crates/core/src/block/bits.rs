//! Varints and bit packing, least significant bit first.

use super::BlockError;

/// Appends an unsigned LEB128 number.
pub fn put_varint(out: &mut Vec<u8>, mut number: u64) {
    while number >= 0x80 {
        out.push(number as u8 | 0x80);
        number >>= 7;
    }
    out.push(number as u8);
}

/// Appends a signed number: zigzag, then LEB128.
pub fn put_signed(out: &mut Vec<u8>, number: i64) {
    put_varint(out, ((number << 1) ^ (number >> 63)).cast_unsigned());
}

/// Bytes that [`put_signed`] appends.
pub fn signed_bytes(number: i64) -> usize {
    let zigzag = ((number << 1) ^ (number >> 63)).cast_unsigned();
    usize::from(width(zigzag)).div_ceil(7).max(1)
}

/// Largest power of ten of a short double.
const LARGEST_EXPONENT: u8 = 12;
const RAW: u8 = 0xff;

/// Appends a double: as an exponent byte `e` and a signed number `n` where it is exactly `n / 10^e`, else as the byte 255 and its eight.
pub fn put_double(out: &mut Vec<u8>, double: f64) {
    for exponent in 0..=LARGEST_EXPONENT {
        let scale = 10f64.powi(exponent.into());
        let scaled = (double * scale).round();
        if scaled.abs() < 9e15 && (scaled as i64 as f64 / scale).to_bits() == double.to_bits() {
            out.push(exponent);
            return put_signed(out, scaled as i64);
        }
    }
    out.push(RAW);
    out.extend_from_slice(&double.to_le_bytes());
}

/// Bits that the number needs.
pub fn width(number: u64) -> u8 {
    (64 - number.leading_zeros()) as u8
}

/// Bytes that `count` numbers of `width` bits take.
pub fn packed_bytes(count: usize, width: u8) -> usize {
    (count * usize::from(width)).div_ceil(8)
}

/// Appends numbers of at most `width` bits, one after the other.
pub fn pack(out: &mut Vec<u8>, numbers: impl Iterator<Item = u64>, width: u8) {
    if width == 0 {
        return;
    }
    let width = u32::from(width);
    let (mut pending, mut filled) = (0u64, 0u32);
    for number in numbers {
        pending |= number << filled;
        filled += width;
        if filled >= 64 {
            out.extend_from_slice(&pending.to_le_bytes());
            filled -= 64;
            // What did not fit of the number; of one that fitted exactly nothing is left.
            pending = number.checked_shr(width - filled).unwrap_or(0);
        }
    }
    out.extend_from_slice(&pending.to_le_bytes()[..filled.div_ceil(8) as usize]);
}

/// Reads from bytes with every length checked.
pub struct Reader<'a> {
    bytes: &'a [u8],
}

impl<'a> Reader<'a> {
    /// From the first byte on.
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { bytes }
    }

    /// The next so many bytes; `part` is what an error calls them, here and below.
    ///
    /// # Errors
    /// [`BlockError::Short`].
    pub fn take(&mut self, length: usize, part: &'static str) -> Result<&'a [u8], BlockError> {
        let (taken, rest) = self.bytes.split_at_checked(length).ok_or(BlockError::Short(part))?;
        self.bytes = rest;
        Ok(taken)
    }

    /// The next byte.
    ///
    /// # Errors
    /// [`BlockError::Short`].
    pub fn byte(&mut self, part: &'static str) -> Result<u8, BlockError> {
        Ok(self.take(1, part)?[0])
    }

    /// Reads what [`put_varint`] wrote.
    ///
    /// # Errors
    /// [`BlockError`], also for more than 64 bits.
    pub fn varint(&mut self, part: &'static str) -> Result<u64, BlockError> {
        let mut number = 0u64;
        for shift in (0..64).step_by(7) {
            let byte = self.byte(part)?;
            let low = u64::from(byte & 0x7f);
            if shift == 63 && low > 1 {
                break;
            }
            number |= low << shift;
            if byte & 0x80 == 0 {
                return Ok(number);
            }
        }
        Err(BlockError::Bounds(part))
    }

    /// Reads what [`put_signed`] wrote.
    ///
    /// # Errors
    /// As [`Reader::varint`].
    pub fn signed(&mut self, part: &'static str) -> Result<i64, BlockError> {
        let number = self.varint(part)?;
        Ok((number >> 1).cast_signed() ^ -(number & 1).cast_signed())
    }

    /// Reads what [`put_double`] wrote.
    ///
    /// # Errors
    /// [`BlockError`], also for exponents that are never written.
    pub fn double(&mut self, part: &'static str) -> Result<f64, BlockError> {
        match self.byte(part)? {
            exponent @ 0..=LARGEST_EXPONENT => Ok(self.signed(part)? as f64 / 10f64.powi(exponent.into())),
            RAW => {
                let mut bytes = [0; 8];
                bytes.copy_from_slice(self.take(8, part)?);
                Ok(f64::from_le_bytes(bytes))
            }
            _ => Err(BlockError::Bounds(part)),
        }
    }

    /// Whether everything is read.
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// How many bytes are left.
    pub fn len(&self) -> usize {
        self.bytes.len()
    }

    /// Reads `count` numbers of one width, itself a byte in front of them, and hands them on in order, up to 64 at a time.
    ///
    /// # Errors
    /// [`BlockError`], also for a width beyond 64.
    pub fn unpack(&mut self, count: usize, part: &'static str, mut each: impl FnMut(&[u64])) -> Result<(), BlockError> {
        let width = self.byte(part)?;
        if usize::from(width) > GROUP {
            return Err(BlockError::Bounds(part));
        }
        let packed = self.take(packed_bytes(count, width), part)?;
        let mut numbers = [0; GROUP];
        let (groups, rest) = (count / GROUP, count % GROUP);
        let group_bytes = GROUP / 8 * usize::from(width);
        for group in 0..groups {
            unpack_group(width, &packed[group * group_bytes..(group + 1) * group_bytes], &mut numbers);
            each(&numbers);
        }
        if rest > 0 {
            // The last numbers are few: they are padded to a whole group.
            let mut padded = [0; GROUP * 8];
            let left = &packed[groups * group_bytes..];
            padded[..left.len()].copy_from_slice(left);
            unpack_group(width, &padded[..group_bytes], &mut numbers);
            each(&numbers[..rest]);
        }
        Ok(())
    }
}

/// Numbers that are unpacked together: as many as a word has bits, so that a group of any width fills whole words.
const GROUP: usize = 64;

/// Takes a group of numbers apart. With the width known at compile time every shift is a constant, and the loop has no branches left:
/// this is what the speed of decoding rests on (after the work on integer packing in wide registers, 2012 to 2023).
fn unpack_width<const WIDTH: usize>(packed: &[u8], numbers: &mut [u64; GROUP]) {
    let mut words = [0u64; GROUP + 1];
    for (word, bytes) in words.iter_mut().zip(packed.as_chunks::<8>().0) {
        *word = u64::from_le_bytes(*bytes);
    }
    let mask = if WIDTH == GROUP { u64::MAX } else { (1 << WIDTH) - 1 };
    for (i, number) in numbers.iter_mut().enumerate() {
        let (word, shift) = (i * WIDTH / 64, i * WIDTH % 64);
        let mut found = words[word] >> shift;
        if shift + WIDTH > 64 {
            found |= words[word + 1] << (64 - shift);
        }
        *number = found & mask;
    }
}

macro_rules! by_width {
    ($width:expr, $packed:expr, $numbers:expr; $($known:literal)*) => {
        match $width {
            $($known => unpack_width::<$known>($packed, $numbers),)*
            _ => unpack_width::<64>($packed, $numbers),
        }
    };
}

fn unpack_group(width: u8, packed: &[u8], numbers: &mut [u64; GROUP]) {
    by_width!(width, packed, numbers;
        0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30 31
        32 33 34 35 36 37 38 39 40 41 42 43 44 45 46 47 48 49 50 51 52 53 54 55 56 57 58 59 60 61 62 63);
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn packing_round_trips_at_every_width(numbers in prop::collection::vec(any::<u64>(), 0..200), width in 0u8..=64) {
            let mask = if width == 0 { 0 } else { u64::MAX >> (64 - width) };
            let numbers: Vec<u64> = numbers.into_iter().map(|n| n & mask).collect();
            let mut bytes = vec![width];
            pack(&mut bytes, numbers.iter().copied(), width);
            prop_assert_eq!(bytes.len(), 1 + packed_bytes(numbers.len(), width));
            let mut out = Vec::new();
            Reader::new(&bytes).unpack(numbers.len(), "test", |group| out.extend_from_slice(group)).unwrap();
            prop_assert_eq!(out, numbers);
        }

        #[test]
        fn signed_numbers_round_trip(number in any::<i64>()) {
            let mut bytes = Vec::new();
            put_signed(&mut bytes, number);
            prop_assert_eq!(bytes.len(), signed_bytes(number));
            prop_assert_eq!(Reader::new(&bytes).signed("test").unwrap(), number);
        }
    }

    proptest! {
        #[test]
        fn doubles_round_trip_bit_for_bit(any in any::<f64>(), n in -100_000i64..100_000, decimals in 0i32..6) {
            for double in [any, n as f64 / 10f64.powi(decimals), -0.0, f64::INFINITY, 5e-324, 1e300] {
                let mut bytes = Vec::new();
                put_double(&mut bytes, double);
                prop_assert_eq!(Reader::new(&bytes).double("test").unwrap().to_bits(), double.to_bits());
                for cut in 0..bytes.len() {
                    prop_assert!(Reader::new(&bytes[..cut]).double("test").is_err());
                }
            }
        }
    }

    #[test]
    fn an_endless_varint_is_refused() {
        assert!(Reader::new(&[0xff; 20]).varint("test").is_err());
        assert!(Reader::new(&[0xff; 3]).varint("test").is_err());
    }
}
