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
    let (mut pending, mut filled) = (0u128, 0u32);
    for number in numbers {
        pending |= u128::from(number) << filled;
        filled += u32::from(width);
        while filled >= 8 {
            out.push(pending as u8);
            pending >>= 8;
            filled -= 8;
        }
    }
    if filled > 0 {
        out.push(pending as u8);
    }
}

/// Reads from bytes with every length checked.
pub struct Reader<'a> {
    bytes: &'a [u8],
}

impl<'a> Reader<'a> {
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { bytes }
    }

    pub fn take(&mut self, length: usize, part: &'static str) -> Result<&'a [u8], BlockError> {
        let (taken, rest) = self.bytes.split_at_checked(length).ok_or(BlockError::Short(part))?;
        self.bytes = rest;
        Ok(taken)
    }

    pub fn byte(&mut self, part: &'static str) -> Result<u8, BlockError> {
        Ok(self.take(1, part)?[0])
    }

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

    pub fn signed(&mut self, part: &'static str) -> Result<i64, BlockError> {
        let number = self.varint(part)?;
        Ok((number >> 1).cast_signed() ^ -(number & 1).cast_signed())
    }

    /// Reads `count` numbers of one width, itself a byte in front of them, and hands each to `each`.
    pub fn unpack(&mut self, count: usize, part: &'static str, mut each: impl FnMut(u64)) -> Result<(), BlockError> {
        let width = self.byte(part)?;
        if width > 64 {
            return Err(BlockError::Bounds(part));
        }
        let packed = self.take(packed_bytes(count, width), part)?;
        if width == 0 {
            (0..count).for_each(|_| each(0));
            return Ok(());
        }
        let mask = u64::MAX >> (64 - width);
        // Up to this many numbers, eight bytes can be read at once without passing the end.
        let mut at = 0usize;
        for _ in 0..count {
            let (byte, shift) = (at / 8, at % 8);
            let word = match packed.get(byte..byte + 8) {
                Some(window) => {
                    let mut word = [0; 8];
                    word.copy_from_slice(window);
                    u64::from_le_bytes(word)
                }
                None => packed[byte..].iter().rev().fold(0, |word, b| word << 8 | u64::from(*b)),
            };
            let mut number = word >> shift;
            if shift + usize::from(width) > 64 {
                number |= u64::from(packed[byte + 8]) << (64 - shift);
            }
            each(number & mask);
            at += usize::from(width);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn packing_round_trips_at_every_width(numbers in prop::collection::vec(any::<u64>(), 0..100), width in 0u8..=64) {
            let mask = if width == 0 { 0 } else { u64::MAX >> (64 - width) };
            let numbers: Vec<u64> = numbers.into_iter().map(|n| n & mask).collect();
            let mut bytes = vec![width];
            pack(&mut bytes, numbers.iter().copied(), width);
            prop_assert_eq!(bytes.len(), 1 + packed_bytes(numbers.len(), width));
            let mut out = Vec::new();
            Reader::new(&bytes).unpack(numbers.len(), "test", |n| out.push(n)).unwrap();
            prop_assert_eq!(out, numbers);
        }

        #[test]
        fn signed_numbers_round_trip(number in any::<i64>()) {
            let mut bytes = Vec::new();
            put_signed(&mut bytes, number);
            prop_assert_eq!(Reader::new(&bytes).signed("test").unwrap(), number);
        }
    }

    #[test]
    fn an_endless_varint_is_refused() {
        assert!(Reader::new(&[0xff; 20]).varint("test").is_err());
        assert!(Reader::new(&[0xff; 3]).varint("test").is_err());
    }
}
