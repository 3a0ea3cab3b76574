//! Numbers written bit by bit, least significant first, in codes whose length follows from the number: for counts that are mostly small.
//!
//! Elias: Universal codeword sets and representations of the integers, 1975 (`gamma`); with a parameter: Teuhola: A compression method for clustered
//! bit-vectors, 1978 (`scaled`).

use crate::block::BlockError;

/// Appends codes to bytes.
pub struct BitWriter<'o> {
    out: &'o mut Vec<u8>,
    pending: u128,
    filled: u32,
}

impl<'o> BitWriter<'o> {
    pub fn new(out: &'o mut Vec<u8>) -> Self {
        Self { out, pending: 0, filled: 0 }
    }

    /// The lowest bits of a number, at most 64.
    pub fn bits(&mut self, number: u64, width: u32) {
        let kept = if width == 64 { number } else { number & ((1 << width) - 1) };
        self.pending |= u128::from(kept) << self.filled;
        self.filled += width;
        while self.filled >= 8 {
            self.out.push(self.pending as u8);
            self.pending >>= 8;
            self.filled -= 8;
        }
    }

    /// A number from 1 on: a zero for each bit after its first, a one, then those bits.
    pub fn gamma(&mut self, number: u64) {
        debug_assert!(number > 0);
        let width = number.max(1).ilog2();
        self.bits(0, width);
        self.bits(1, 1);
        self.bits(number, width);
    }

    /// A number from 0 on that is about as large as a power of two.
    pub fn scaled(&mut self, number: u64, power: u32) {
        self.gamma((number >> power) + 1);
        self.bits(number, power);
    }

    /// Fills up the last byte.
    pub fn finish(mut self) {
        let left = (8 - self.filled % 8) % 8;
        self.bits(0, left);
    }
}

/// Reads what a [`BitWriter`] wrote.
pub struct BitReader<'a> {
    bytes: &'a [u8],
    /// In bits.
    at: usize,
}

impl<'a> BitReader<'a> {
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0 }
    }

    /// How many bits are left, those that fill up the last byte among them.
    pub fn len(&self) -> usize {
        self.bytes.len() * 8 - self.at
    }

    /// The next bits, 57 of them at least where there are so many, then zeros.
    fn peek(&self) -> u64 {
        let ahead = &self.bytes[(self.at / 8).min(self.bytes.len())..];
        let word = match ahead.first_chunk::<8>() {
            Some(word) => u64::from_le_bytes(*word),
            None => ahead.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte)),
        };
        word >> (self.at % 8)
    }

    fn skip(&mut self, width: u32, part: &'static str) -> Result<(), BlockError> {
        if width as usize > self.len() {
            return Err(BlockError::Short(part));
        }
        self.at += width as usize;
        Ok(())
    }

    /// A number of so many bits, at most 64; `part` is what an error calls it, here and below.
    ///
    /// # Errors
    /// [`BlockError::Short`].
    pub fn bits(&mut self, width: u32, part: &'static str) -> Result<u64, BlockError> {
        if width > 32 {
            let low = self.bits(32, part)?;
            return Ok(low | self.bits(width - 32, part)? << 32);
        }
        let number = self.peek() & ((1 << width) - 1);
        self.skip(width, part)?;
        Ok(number)
    }

    /// What [`BitWriter::gamma`] wrote.
    ///
    /// # Errors
    /// [`BlockError`], also for more than 64 bits.
    pub fn gamma(&mut self, part: &'static str) -> Result<u64, BlockError> {
        let word = self.peek();
        let zeros = word.trailing_zeros();
        if zeros <= 28 && zeros as usize * 2 < self.len() {
            self.at += zeros as usize * 2 + 1;
            return Ok(1 << zeros | (word >> (zeros + 1)) & ((1 << zeros) - 1));
        }
        let mut width = 0;
        while self.bits(1, part)? == 0 {
            width += 1;
            if width > 63 {
                return Err(BlockError::Bounds(part));
            }
        }
        Ok(1 << width | self.bits(width, part)?)
    }

    /// What [`BitWriter::scaled`] wrote with the same power.
    ///
    /// # Errors
    /// [`BlockError`], also for more than 64 bits.
    pub fn scaled(&mut self, power: u32, part: &'static str) -> Result<u64, BlockError> {
        let high = self.gamma(part)? - 1;
        let low = self.bits(power, part)?;
        let fits = high.leading_zeros() >= power;
        if fits { Ok(high << power | low) } else { Err(BlockError::Bounds(part)) }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn bit_codes_round_trip(numbers in prop::collection::vec((0u64..1 << 40, 0u32..20, 1u32..=64), 0..50)) {
            let mut bytes = Vec::new();
            let mut writer = BitWriter::new(&mut bytes);
            for (number, power, width) in &numbers {
                writer.gamma(number + 1);
                writer.scaled(*number, *power);
                writer.bits(*number, *width);
            }
            writer.finish();
            let mut reader = BitReader::new(&bytes);
            for (number, power, width) in &numbers {
                prop_assert_eq!(reader.gamma("test"), Ok(number + 1));
                prop_assert_eq!(reader.scaled(*power, "test"), Ok(*number));
                prop_assert_eq!(reader.bits(*width, "test"), Ok(if *width == 64 { *number } else { number & ((1 << width) - 1) }));
            }
            prop_assert!(reader.len() < 8);
            prop_assert!(reader.bits(8, "test").is_err());
        }

        #[test]
        fn junk_never_panics(bytes in prop::collection::vec(any::<u8>(), 0..40), powers in prop::collection::vec(0u32..64, 1..20)) {
            let mut reader = BitReader::new(&bytes);
            powers.iter().all(|power| reader.scaled(*power, "test").is_ok() && reader.gamma("test").is_ok());
        }
    }

    #[test]
    fn small_numbers_take_few_bits() {
        let bits = |write: &dyn Fn(&mut BitWriter<'_>)| {
            let mut bytes = Vec::new();
            let mut writer = BitWriter::new(&mut bytes);
            (0..8).for_each(|_| write(&mut writer));
            writer.finish();
            bytes.len()
        };
        assert_eq!([1, 2, 3, 4].map(|number| bits(&|writer| writer.gamma(number))), [1, 3, 3, 5]);
        assert_eq!([0, 3, 4, 11].map(|number| bits(&|writer| writer.scaled(number, 2))), [3, 3, 5, 5]);
    }
}
