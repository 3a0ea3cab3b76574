//! One acknowledged batch in binary: what a row of the journal holds.
//!
//! ```text
//! byte 0    version, 2
//! byte 1    unit of time, a power of ten of nanoseconds
//! byte 2    1 where there are rests, else 0
//! varint    number of stretches, and for each:
//!             varint series (the first as it is, then what it is above the last), varint points
//!             times, in units: signed varints, each what it is above the one before (over the whole batch)
//!             values: doubles, 8 bytes each
//!             rests: signed varints, where there are any
//! u32       CRC-32 of everything before it
//! ```
//!
//! Fixed-length numbers stand least significant byte first, varints are LEB128, signed ones zigzag. Version 1, which stores before
//! format 2 hold: a u32 number of stretches, and for each u32 series, u32 points, times and values of 8 bytes each; then the checksum.

use std::ops::Range;

use fenetre_core::{
    block::{
        BlockError, Columns, Points,
        bits::{Reader, put_signed, put_varint},
    },
    model::{DatasetId, SeriesId},
    time::Nanos,
};

const VERSION: u8 = 2;
const OLD_VERSION: u8 = 1;
const LARGEST_UNIT: u8 = 9;

/// Points of one batch, series by series; those of one series in the order in which they came.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Entry {
    /// All points.
    pub columns: Columns,
    /// Which of them are of which series, each series once, by id.
    pub stretches: Vec<(SeriesId, Range<usize>)>,
}

impl Entry {
    pub fn points(&self) -> usize {
        self.columns.len()
    }

    /// Each series with its points.
    pub fn series(&self) -> impl Iterator<Item = (SeriesId, Points<'_>)> {
        self.stretches.iter().map(|(series, places)| (*series, self.columns.points().slice(places.clone())))
    }

    pub fn to_bytes(&self) -> Vec<u8> {
        let exponent = unit_of(&self.columns.times);
        let unit = 10i64.pow(exponent.into());
        let has_rests = !self.columns.rests.is_empty();
        let mut bytes = Vec::with_capacity(16 + self.stretches.len() * 4 + self.points() * 12);
        bytes.extend([VERSION, exponent, has_rests.into()]);
        put_varint(&mut bytes, self.stretches.len() as u64);
        let (mut last_series, mut last_place) = (0, 0i64);
        for (series, points) in self.series() {
            put_varint(&mut bytes, u64::from(series.0 - last_series));
            last_series = series.0;
            put_varint(&mut bytes, points.len() as u64);
            for time in points.times {
                let place = time / unit;
                put_signed(&mut bytes, place.wrapping_sub(last_place));
                last_place = place;
            }
            points.values.iter().for_each(|value| bytes.extend(value.to_le_bytes()));
            if has_rests {
                points.rests.iter().for_each(|rest| put_signed(&mut bytes, (*rest).into()));
            }
        }
        let checksum = crc32fast::hash(&bytes);
        bytes.extend(checksum.to_le_bytes());
        bytes
    }

    pub fn from_bytes(bytes: &[u8]) -> Result<Self, String> {
        let (body, checksum) = bytes.split_last_chunk::<4>().ok_or("it is too short")?;
        if crc32fast::hash(body) != u32::from_le_bytes(*checksum) {
            return Err("its checksum does not fit".to_owned());
        }
        match body {
            [VERSION, unit @ 0..=LARGEST_UNIT, has_rests @ 0..=1, rest @ ..] => {
                Self::read(Reader::new(rest), 10i64.pow((*unit).into()), *has_rests == 1).map_err(describe)
            }
            [OLD_VERSION, rest @ ..] => Self::read_old(Reader::new(rest)).map_err(describe),
            [version, ..] => Err(format!("version {version} is not known")),
            [] => Err("it is empty".to_owned()),
        }
    }

    fn read(mut reader: Reader<'_>, unit: i64, has_rests: bool) -> Result<Self, BlockError> {
        let mut entry = Self::default();
        let (mut series, mut place) = (0u32, 0i64);
        for _ in 0..reader.varint("number of series")? {
            let above = u32::try_from(reader.varint("series")?).ok().and_then(|above| series.checked_add(above));
            series = above.ok_or(BlockError::Bounds("series"))?;
            let points = reader.varint("number of points")?;
            // Each point takes nine bytes at least, so a number of points that cannot be right is known before memory is taken for it.
            let points = usize::try_from(points).ok().filter(|points| *points <= reader.len() / 9).ok_or(BlockError::Short("points"))?;
            let start = entry.columns.times.len();
            for _ in 0..points {
                place = place.wrapping_add(reader.signed("times")?);
                entry.columns.times.push(place.wrapping_mul(unit));
            }
            entry.columns.values.extend(words(&mut reader, points)?.map(f64::from_le_bytes));
            for _ in 0..if has_rests { points } else { 0 } {
                entry.columns.rests.push(i16::try_from(reader.signed("rests")?).map_err(|_| BlockError::Bounds("rests"))?);
            }
            entry.stretches.push((SeriesId(series), start..start + points));
        }
        entry.ended(&reader)
    }

    fn read_old(mut reader: Reader<'_>) -> Result<Self, BlockError> {
        let mut entry = Self::default();
        for _ in 0..number(&mut reader)? {
            let (series, points) = (SeriesId(number(&mut reader)?), number(&mut reader)? as usize);
            let start = entry.columns.times.len();
            entry.columns.times.extend(words(&mut reader, points)?.map(i64::from_le_bytes));
            entry.columns.values.extend(words(&mut reader, points)?.map(f64::from_le_bytes));
            entry.stretches.push((series, start..start + points));
        }
        entry.ended(&reader)
    }

    /// Itself, where nothing is left to read.
    fn ended(self, reader: &Reader<'_>) -> Result<Self, BlockError> {
        if reader.is_empty() { Ok(self) } else { Err(BlockError::Bounds("end")) }
    }
}

/// A reader's fault, in words that follow the batch that it is about.
fn describe(error: BlockError) -> String {
    match error {
        BlockError::Short(part) => format!("it ends early, in its {part}"),
        BlockError::Bounds(part) => format!("its {part} is out of bounds"),
        other => other.to_string(),
    }
}

/// One batch, on its way to the journal or back.
#[derive(Clone, Debug, PartialEq)]
pub struct Journaled {
    pub dataset: DatasetId,
    pub entry: Entry,
}

/// The largest unit, of whole seconds, milliseconds, microseconds or nanoseconds, in which all instants are whole.
fn unit_of(times: &[Nanos]) -> u8 {
    [9u8, 6, 3].into_iter().find(|unit| times.iter().all(|time| time % 10i64.pow((*unit).into()) == 0)).unwrap_or(0)
}

fn number(reader: &mut Reader<'_>) -> Result<u32, BlockError> {
    let bytes = reader.take(4, "numbers")?;
    Ok(bytes.iter().rev().fold(0, |number, byte| number << 8 | u32::from(*byte)))
}

fn words<'a>(reader: &mut Reader<'a>, count: usize) -> Result<impl Iterator<Item = [u8; 8]> + 'a, BlockError> {
    let bytes = reader.take(count.checked_mul(8).ok_or(BlockError::Short("points"))?, "points")?;
    Ok(bytes.as_chunks::<8>().0.iter().copied())
}

#[cfg(test)]
pub mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Points of a series, each as instant, value and rest.
    type OfSeries<'p> = (u32, &'p [(Nanos, f64, i16)]);

    /// An entry of some series with points of their own.
    pub fn entry(series: &[OfSeries<'_>]) -> Entry {
        let mut entry = Entry::default();
        for (id, points) in series {
            let start = entry.columns.len();
            points.iter().for_each(|(time, value, rest)| entry.columns.push(*time, *value, *rest));
            entry.stretches.push((SeriesId(*id), start..entry.columns.len()));
        }
        entry
    }

    proptest! {
        #[test]
        fn entries_round_trip_and_any_cut_or_flip_is_an_error(
            series in prop::collection::btree_map(any::<u32>(), prop::collection::vec((any::<i64>(), any::<f64>(), any::<bool>()), 1..20), 0..5),
            thousands in 0u32..4, place in any::<prop::sample::Index>(), bit in 0u8..8,
        ) {
            let unit = 1_000i64.pow(thousands);
            let series: Vec<(u32, Vec<_>)> = series.into_iter()
                .map(|(id, points)| (id, points.into_iter().map(|(at, value, wide)| (at / unit * unit, value, wide as i16 * -7)).collect())).collect();
            let series: Vec<OfSeries<'_>> = series.iter().map(|(id, points)| (*id, points.as_slice())).collect();
            let entry = entry(&series);
            let bytes = entry.to_bytes();
            let back = Entry::from_bytes(&bytes).unwrap();
            // Not-a-numbers have many forms: the bits are what counts.
            prop_assert_eq!(back.to_bytes(), bytes.clone());
            prop_assert_eq!((&back.stretches, &back.columns.times, &back.columns.rests), (&entry.stretches, &entry.columns.times, &entry.columns.rests));
            let place = place.index(bytes.len());
            prop_assert!(Entry::from_bytes(&bytes[..place]).is_err());
            let mut flipped = bytes;
            flipped[place] ^= 1 << bit;
            prop_assert!(Entry::from_bytes(&flipped).is_err());
        }

        #[test]
        fn junk_with_a_right_checksum_never_panics(mut body in prop::collection::vec(any::<u8>(), 0..120), version in 1u8..3) {
            if let Some(first) = body.first_mut() { *first = version; }
            let checksum = crc32fast::hash(&body);
            body.extend(checksum.to_le_bytes());
            if let Ok(entry) = Entry::from_bytes(&body) {
                prop_assert_eq!(entry.columns.times.len(), entry.columns.values.len());
            }
        }
    }
}
