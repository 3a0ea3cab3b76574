//! Windows at rest: a row of windows of one series, a column for each thing that is held of them.
//!
//! A row has two parts of the same form, so that a query that wants sums and extremes need not read the rest, which takes most of the room.
//!
//! ```text
//! byte 0     version, 2
//! byte 1     contents: 0 gauge, 1 counter, 2 state, 3 histogram, 4 part
//! 4 bytes    mark of the rules under which it was made
//! varint     how many windows
//! columns    each: its number, a varint of its length, its bytes in the encodings of the block format; columns of zeros are left out
//! 4 bytes    CRC-32 of everything before
//! ```
//!
//! In version 1 moments were not yet times the count, and sketches were listed bucket by bucket. Such rows are read, and written anew when their windows are.

use super::{
    bit_codes::{BitReader, BitWriter},
    columns::{AREA, CHANGES, COUNT, GROWTH, MAX, MIN, NUMBERS, SQUARES, SUM, TIME_SQUARES, TIMES, WindowColumns, numbers_of},
    even::Even,
    sketch::Sketch,
    window::{Contents, Made, Window},
};
use crate::{
    block::{
        BlockError,
        bits::{Reader, put_double, put_varint},
        put_times, put_values, take_times, take_values,
    },
    summary::Sample,
    time::Nanos,
};

const VERSION: u8 = 2;
const HEAD: usize = 6;
const MAX_WINDOWS: u64 = 65_536;

const STARTS: u8 = 0;
/// Doubles that the first part of a row has.
const COUNTS: u8 = 1;
const FIRST_TIMES: u8 = 2;
const LAST_TIMES: u8 = 3;
const FIRSTS: u8 = 4;
const LASTS: u8 = 5;
const SUMS: u8 = 6;
const UNCOVERED: u8 = 19;
const STATES: u8 = 20;
const SKETCHES: u8 = 21;
/// Which columns are left out since they follow from evenly spaced points, a bit each.
const EVENS: u8 = 22;

/// Of a column's number, the place among the columns of doubles.
fn place_of(number: u8) -> Option<usize> {
    match number {
        COUNTS => Some(COUNT),
        SUMS..=UNCOVERED => Some((number - SUMS) as usize + SUM),
        _ => None,
    }
}

fn number_of(place: usize) -> u8 {
    if place == COUNT { COUNTS } else { (place - SUM) as u8 + SUMS }
}

/// What evenly spaced points give for a column.
type OfEven = fn(&Even) -> f64;

/// Bits of [`EVENS`]: the column that is left out, and what stands for it.
const EVEN: [(u8, usize, OfEven); 4] = [
    (1, TIMES, |even| even.times),
    (2, TIME_SQUARES, |even| even.time_squares),
    (4, AREA, |even| even.linear_area),
    (8, AREA, |even| even.stepped_area),
];

/// Which parts of windows are read; count and sum always are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wants {
    /// The first and the last point.
    pub ends: bool,
    /// The least and the greatest.
    pub extremes: bool,
    /// Of [`Moments`](super::Moments), the squares of values.
    pub scatter: bool,
    /// The others.
    pub trend: bool,
    /// [`Steps`].
    pub steps: bool,
    /// States.
    pub states: bool,
    /// The sketch.
    pub sketch: bool,
}

impl Wants {
    /// Everything.
    pub const ALL: Self = Self { ends: true, extremes: true, scatter: true, trend: true, steps: true, states: true, sketch: true };

    /// Whether the first part of a row does not hold all of it.
    pub fn are_more(self) -> bool {
        self.ends || self.scatter || self.trend || self.steps || self.states || self.sketch
    }
}

/// The parts of a row.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Encoded {
    /// Starts, counts, sums, least and greatest.
    pub bytes: Vec<u8>,
    /// Everything else.
    pub more: Vec<u8>,
}

/// What each column of a row takes, by name, in bytes; nothing of what is no row.
pub fn column_sizes(row: &Encoded) -> Vec<(&'static str, usize)> {
    let mut sizes = Vec::new();
    for part in [&row.bytes, &row.more] {
        let Ok((_, mut columns)) = open(part) else { continue };
        while let (Ok(number), Ok(length)) = (columns.byte("column"), columns.varint("column")) {
            let Ok(column) = columns.take(length as usize, "column") else { break };
            sizes.push((name_of(number), column.len()));
        }
    }
    sizes
}

fn name_of(number: u8) -> &'static str {
    const NUMBERED: [&str; NUMBERS] = [
        "counts",
        "sums",
        "least",
        "greatest",
        "squares",
        "times",
        "time squares",
        "products",
        "growth",
        "changes",
        "gaps",
        "gap deltas",
        "areas",
        "unheld",
        "uncovered",
    ];
    match number {
        STARTS => "starts",
        FIRST_TIMES => "first times",
        LAST_TIMES => "last times",
        FIRSTS => "firsts",
        LASTS => "lasts",
        STATES => "states",
        SKETCHES => "sketches",
        EVENS => "evens",
        number => place_of(number).and_then(|place| NUMBERED.get(place)).copied().unwrap_or("of a later version"),
    }
}

/// Bytes that are no windows.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a block of windows cannot be read: {0}")]
pub struct BadRows(#[from] BlockError);

fn contents_of(byte: u8) -> Option<Contents> {
    [Contents::Gauge, Contents::Counter, Contents::State, Contents::Histogram, Contents::Part].into_iter().find(|contents| *contents as u8 == byte)
}

/// One part of a row, while it is put together.
struct Writer {
    out: Vec<u8>,
    scratch: Vec<u8>,
}

impl Writer {
    fn new(count: usize, made: Made) -> Self {
        let mut out = vec![VERSION, made.contents as u8];
        out.extend_from_slice(&made.mark.to_le_bytes());
        put_varint(&mut out, count as u64);
        Self { out, scratch: Vec::new() }
    }

    fn column(&mut self, number: u8, put: impl FnOnce(&mut Vec<u8>)) {
        self.scratch.clear();
        put(&mut self.scratch);
        self.out.push(number);
        put_varint(&mut self.out, self.scratch.len() as u64);
        self.out.extend_from_slice(&self.scratch);
    }

    fn finish(mut self) -> Vec<u8> {
        let checksum = crc32fast::hash(&self.out);
        self.out.extend_from_slice(&checksum.to_le_bytes());
        self.out
    }
}

/// What a column holds of a window.
type Of<T> = fn(&Window) -> T;

/// Packs windows, in order, of one series. Not empty, and no more than 65,536.
pub fn encode(windows: &[Window], made: Made) -> Encoded {
    let (mut short, mut more) = (Writer::new(windows.len(), made), Writer::new(windows.len(), made));
    let times = |of: Of<Nanos>| windows.iter().map(of).collect::<Vec<_>>();
    short.column(STARTS, |out| put_times(&times(|window| window.start), out));
    more.column(FIRST_TIMES, |out| put_times(&times(|window| window.summary.first.time), out));
    more.column(LAST_TIMES, |out| put_times(&times(|window| window.summary.last.time), out));
    let samples: [(u8, Of<Sample>); 2] = [(FIRSTS, |window| window.summary.first), (LASTS, |window| window.summary.last)];
    for (number, of) in samples {
        let (values, rests): (Vec<f64>, Vec<i16>) = windows.iter().map(of).map(|sample| (sample.value, sample.rest)).unzip();
        more.column(number, |out| put_values(&values, &rests, out));
    }
    let numbers: Vec<[f64; NUMBERS]> = windows.iter().map(|window| numbers_of(&window.view())).collect();
    // Of codes and of parts neither moments nor areas are held.
    let evens = if made.contents.are_numbers() { evens(windows, &numbers) } else { 0 };
    if evens != 0 {
        more.column(EVENS, |out| out.push(evens));
    }
    for place in 0..NUMBERS {
        // Of codes there is no sum, and of a histogram's parts the least and the greatest are not asked for.
        let is_asked = match made.contents {
            Contents::Gauge | Contents::Counter => true,
            Contents::Part => !matches!(place, MIN | MAX | CHANGES),
            Contents::State | Contents::Histogram => !matches!(place, SUM | MIN | MAX),
        };
        let values: Vec<f64> = numbers.iter().map(|numbers| numbers[place]).collect();
        let is_even = EVEN.iter().any(|(bit, of, _)| *of == place && evens & bit != 0);
        if is_asked && !is_even && values.iter().any(|value| value.to_bits() != 0) {
            let part = if place <= MAX { &mut short } else { &mut more };
            part.column(number_of(place), |out| put_values(&values, &[], out));
        }
    }
    if made.contents == Contents::State {
        more.column(STATES, |out| windows.iter().for_each(|window| put_states(&window.states, out)));
    }
    if made.contents.are_numbers() {
        more.column(SKETCHES, |out| {
            let mut writer = BitWriter::new(out);
            windows.iter().for_each(|window| window.sketch.put(window.summary.min, &mut writer));
            writer.finish();
        });
    }
    Encoded { bytes: short.finish(), more: more.finish() }
}

/// Which columns follow from evenly spaced points in all of some windows.
fn evens(windows: &[Window], numbers: &[[f64; NUMBERS]]) -> u8 {
    let mut bits = EVEN.iter().map(|(bit, ..)| bit).sum();
    for (window, numbers) in windows.iter().zip(numbers) {
        let even = Even::of(window.start, &window.summary);
        for (bit, place, of) in EVEN {
            if of(&even).to_bits() != numbers[place].to_bits() {
                bits &= !bit;
            }
        }
        if bits == 0 {
            break;
        }
    }
    // One of two that say the same.
    if bits & 4 != 0 { bits & !8 } else { bits }
}

fn put_states(states: &[(u32, f64)], out: &mut Vec<u8>) {
    put_varint(out, states.len() as u64);
    for (code, held) in states {
        put_varint(out, u64::from(*code));
        put_double(out, *held);
    }
}

fn take_states(reader: &mut Reader<'_>) -> Result<Vec<(u32, f64)>, BlockError> {
    const PART: &str = "states";
    let length = reader.varint(PART)?;
    if length > reader.len() as u64 {
        return Err(BlockError::Short(PART));
    }
    let state = |_| Ok((u32::try_from(reader.varint(PART)?).map_err(|_| BlockError::Bounds(PART))?, reader.double(PART)?));
    (0..length).map(state).collect()
}

/// Appends the windows of a row's parts to `out`, and says how they were made. What is not wanted is left out; the second part may be, where nothing
/// of it is wanted.
///
/// # Errors
/// [`BadRows`] for what is no row of windows, or is damaged; `out` is then of no more use.
pub fn decode(parts: &[&[u8]], wants: Wants, out: &mut WindowColumns) -> Result<Made, BadRows> {
    let before = out.len();
    let (mut first, mut evens): (Option<Head>, u8) = (None, 0);
    for part in parts {
        let (head, mut columns) = open(part)?;
        if first.is_some_and(|first| first != head) {
            return Err(BlockError::Bounds("parts of a row").into());
        }
        first = Some(head);
        while !columns.is_empty() {
            let number = columns.byte("column")?;
            let length = columns.varint("column")?;
            let length = usize::try_from(length).map_err(|_| BlockError::Bounds("column"))?;
            let mut column = Reader::new(columns.take(length, "column")?);
            if number == EVENS {
                evens = column.byte("evenly spaced columns")?;
            } else if is_wanted(number, wants) {
                read_column(number, &mut column, head, before, out)?;
            }
        }
    }
    let Head { version, made, count } = first.ok_or(BlockError::Short("row"))?;
    if version == 1 {
        times_the_count(out, before);
    }
    let is_whole = out.starts.len() == before + count && out.numbers[COUNT].len() == before + count;
    // A window that was never counted is one that was not written.
    let is_sound = is_whole && out.numbers[COUNT][before..].iter().all(|count| *count >= 1.0);
    let (firsts, lasts) = (out.firsts.times.get(before..), out.lasts.times.get(before..));
    let are_in_order = firsts.into_iter().flatten().zip(lasts.into_iter().flatten()).all(|(first, last)| first <= last);
    if !is_sound || !are_in_order {
        return Err(BlockError::Bounds("windows").into());
    }
    fill_even(evens, wants, before, out);
    Ok(made)
}

/// Computes columns that were left out.
fn fill_even(evens: u8, wants: Wants, before: usize, out: &mut WindowColumns) {
    for (_, place, of) in EVEN.iter().filter(|(bit, place, _)| evens & bit != 0 && is_wanted(number_of(*place), wants)) {
        let filled: Vec<f64> = (before..out.len()).map(|at| of(&Even::of(out.starts[at], &out.view(at).summary))).collect();
        out.numbers[*place].resize(before, 0.0);
        out.numbers[*place].extend(filled);
    }
}

/// Moments of version 1 as they are held now.
fn times_the_count(out: &mut WindowColumns, before: usize) {
    let (counts, moments) = out.numbers.split_at_mut(SQUARES);
    for column in &mut moments[..GROWTH - SQUARES] {
        column.iter_mut().zip(&counts[COUNT]).skip(before).for_each(|(moment, count)| *moment *= count);
    }
}

/// What the head of a part says.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Head {
    version: u8,
    made: Made,
    count: usize,
}

/// The head of a part, and its columns.
fn open(bytes: &[u8]) -> Result<(Head, Reader<'_>), BadRows> {
    let body = bytes.len().checked_sub(4).filter(|length| *length >= HEAD).ok_or(BlockError::Short("header"))?;
    let (body, checksum) = bytes.split_at(body);
    let (found, computed) = (word(checksum), crc32fast::hash(body));
    if found != computed {
        return Err(BlockError::Checksum { found, computed }.into());
    }
    let version = body[0];
    if version == 0 || version > VERSION {
        return Err(BlockError::Unknown { part: "version of a row of windows", found: version }.into());
    }
    let contents = contents_of(body[1]).ok_or(BlockError::Unknown { part: "contents of windows", found: body[1] })?;
    let mark = word(&body[2..HEAD]);
    let mut reader = Reader::new(&body[HEAD..]);
    let count = reader.varint("number of windows")?;
    if count == 0 || count > MAX_WINDOWS {
        return Err(BlockError::Bounds("number of windows").into());
    }
    Ok((Head { version, made: Made { contents, mark }, count: count as usize }, reader))
}

fn word(bytes: &[u8]) -> u32 {
    let mut word = [0; 4];
    word.copy_from_slice(&bytes[..4]);
    u32::from_le_bytes(word)
}

fn is_wanted(number: u8, wants: Wants) -> bool {
    match place_of(number) {
        Some(COUNT | SUM) => true,
        // Sketches begin at the least value.
        Some(MIN) => wants.extremes || wants.sketch,
        Some(MAX) => wants.extremes,
        Some(SQUARES) => wants.scatter,
        Some(TIMES..GROWTH) => wants.trend,
        Some(_) => wants.steps,
        None => match number {
            STARTS => true,
            FIRST_TIMES | LAST_TIMES => wants.ends || wants.trend || wants.steps,
            FIRSTS | LASTS => wants.ends || wants.steps,
            STATES => wants.states,
            SKETCHES => wants.sketch,
            // Of a later version, which this one can do without.
            _ => false,
        },
    }
}

/// Appends a column; those before it that were left out are zeros.
fn read_column(number: u8, column: &mut Reader<'_>, head: Head, before: usize, out: &mut WindowColumns) -> Result<(), BlockError> {
    let count = head.count;
    if let Some(place) = place_of(number) {
        let values = &mut out.numbers[place];
        values.resize(before, 0.0);
        return take_values(count, column, values, &mut Vec::new());
    }
    match number {
        STARTS => {
            out.starts.truncate(before);
            take_times(count, column, &mut out.starts)?;
        }
        FIRST_TIMES | LAST_TIMES => {
            let times = if number == FIRST_TIMES { &mut out.firsts.times } else { &mut out.lasts.times };
            times.resize(before, 0);
            take_times(count, column, times)?;
        }
        FIRSTS | LASTS => {
            let ends = if number == FIRSTS { &mut out.firsts } else { &mut out.lasts };
            ends.values.resize(before, 0.0);
            if !ends.rests.is_empty() {
                ends.rests.resize(before, 0);
            }
            take_values(count, column, &mut ends.values, &mut ends.rests)?;
        }
        STATES => {
            out.states.resize(before, Vec::new());
            for _ in 0..count {
                out.states.push(take_states(column)?);
            }
        }
        _ => {
            out.sketches.resize(before, Sketch::EMPTY);
            if head.version == 1 {
                for _ in 0..count {
                    out.sketches.push(Sketch::take_of_version_1(column)?);
                }
                return Ok(());
            }
            let number = |numbers: &[f64], at: usize| numbers.get(before + at).copied().unwrap_or(0.0);
            let mut bits = BitReader::new(column.take(column.len(), "sketches")?);
            for at in 0..count {
                let (least, total) = (number(&out.numbers[MIN], at), number(&out.numbers[COUNT], at) as u64);
                out.sketches.push(Sketch::take(least, total, &mut bits)?);
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::{
        block::Columns,
        model::Shape,
        rollup::{Roller, Rules, Steps},
        time::SECOND,
    };

    fn rules(contents: Contents) -> Rules {
        Rules { contents, shape: Shape::Linear, stale_after: Some(40 * SECOND), covered_within: Some(15 * SECOND) }
    }

    fn windows(steps: &[(i64, f64)], rules: &Rules) -> Vec<Window> {
        let mut at = 1_790_000_000 * SECOND;
        let mut columns = Columns::default();
        for (step, value) in steps {
            at += step * SECOND;
            columns.push(at, if rules.contents == Contents::State { (value.abs() % 4.0).floor() } else { *value }, 0);
        }
        let level = crate::rollup::Level::new(crate::time::Span::exact(60 * SECOND), jiff::tz::TimeZone::UTC).unwrap();
        let mut roller = Roller::new(&level, *rules);
        roller.add_points(columns.points());
        roller.finish()
    }

    fn contents() -> impl Strategy<Value = Contents> {
        prop::sample::select(vec![Contents::Gauge, Contents::Counter, Contents::State, Contents::Histogram, Contents::Part])
    }

    proptest! {
        #[test]
        fn windows_round_trip(contents in contents(), steps in prop::collection::vec((1i64..100, -1e6f64..1e6), 1..80)) {
            let rules = rules(contents);
            let made = windows(&steps, &rules);
            let Encoded { bytes, more } = encode(&made, rules.made());
            // Two rows of one series come into the same columns, whatever was read of the first.
            let mut columns = WindowColumns::default();
            decode(&[&bytes], Wants::default(), &mut columns).unwrap();
            prop_assert_eq!(decode(&[&bytes, &more], Wants::ALL, &mut columns).unwrap(), rules.made());
            let mut back = columns.to_windows();
            prop_assert_eq!(back.len(), made.len() * 2);
            let few = back.drain(..made.len()).collect::<Vec<_>>();
            for (few, made) in few.iter().zip(&made) {
                prop_assert_eq!((few.start, few.summary.count), (made.start, made.summary.count));
                prop_assert!(few.sketch == Sketch::EMPTY && few.states.is_empty() && few.steps == Steps::default());
            }
            for (back, made) in back.iter().zip(&made) {
                let is_number = matches!(contents, Contents::Gauge | Contents::Counter);
                if is_number { prop_assert_eq!(back, made); }
                prop_assert_eq!((&back.states, &back.sketch, back.start), (&made.states, &made.sketch, made.start));
                prop_assert_eq!((back.summary.count, back.summary.first, back.summary.last), (made.summary.count, made.summary.first, made.summary.last));
                prop_assert_eq!((back.steps.gaps, back.steps.growth, back.steps.unheld), (made.steps.gaps, made.steps.growth, made.steps.unheld));
            }
            let fails = |parts: &[&[u8]]| decode(parts, Wants::ALL, &mut WindowColumns::default()).is_err();
            for cut in 0..bytes.len() { prop_assert!(fails(&[&bytes[..cut], &more])); }
            for cut in 0..more.len() { prop_assert!(fails(&[&bytes, &more[..cut]])); }
            prop_assert!(fails(&[]) && fails(&[&more]));
        }

        #[test]
        fn junk_with_a_right_checksum_never_panics(mut bytes in prop::collection::vec(any::<u8>(), 7..200), contents in 0u8..5, count in 1u8..40) {
            (bytes[0], bytes[1], bytes[6]) = (VERSION, contents, count);
            let checksum = crc32fast::hash(&bytes);
            bytes.extend_from_slice(&checksum.to_le_bytes());
            let _ = decode(&[&bytes], Wants::ALL, &mut WindowColumns::default());
        }

        #[test]
        fn a_corrupt_row_with_a_valid_checksum_never_panics(
            contents in contents(),
            steps in prop::collection::vec((1i64..100, -1e6f64..1e6), 1..60),
            spoils in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>(), any::<bool>()), 1..4),
        ) {
            let rules = rules(contents);
            let Encoded { mut bytes, mut more } = encode(&windows(&steps, &rules), rules.made());
            for (place, byte, is_first) in spoils {
                let part = if is_first { &mut bytes } else { &mut more };
                part.truncate(part.len() - 4);
                if !part.is_empty() {
                    let at = place.index(part.len());
                    part[at] = byte;
                }
                let checksum = crc32fast::hash(part);
                part.extend_from_slice(&checksum.to_le_bytes());
            }
            let mut columns = WindowColumns::default();
            if decode(&[&bytes, &more], Wants::ALL, &mut columns).is_ok() {
                prop_assert_eq!(columns.to_windows().len(), columns.len());
            }
        }
    }

    fn steps() -> Vec<(i64, f64)> {
        (0..40).map(|i| (7 + i % 5, f64::from(i as i32 * i as i32 % 11) / 10.0 + 300.0)).collect()
    }

    fn of_hex(hex: &str) -> Vec<u8> {
        (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap()).collect()
    }

    #[test]
    fn version_2_rows_are_stable() {
        let rendered: String = [Contents::Gauge, Contents::Counter, Contents::State, Contents::Part]
            .into_iter()
            .map(|contents| {
                let rules = rules(contents);
                let Encoded { bytes, more } = encode(&windows(&steps(), &rules), rules.made());
                let hex = |bytes: Vec<u8>| bytes.into_iter().map(|byte| format!("{byte:02x}")).collect::<String>();
                format!("{contents:?}: {} {}\n", hex(bytes), hex(more))
            })
            .collect();
        insta::assert_snapshot!(rendered);
    }

    #[test]
    fn columns_that_follow_from_even_steps_are_omitted() {
        let named = |made: &[Window], rules: &Rules| -> Vec<&str> {
            column_sizes(&encode(made, rules.made()))
                .into_iter()
                .map(|(name, _)| name)
                .filter(|name| ["evens", "times", "areas"].contains(name))
                .collect()
        };
        let even: Vec<(i64, f64)> = (0..60).map(|i| (7, f64::from(i % 9) / 4.0)).collect();
        let mut odd = even.clone();
        odd[30].0 = 8;
        for contents in [Contents::Gauge, Contents::Counter] {
            let rules = rules(contents);
            assert_eq!(named(&windows(&even, &rules), &rules), ["evens"]);
            assert_eq!(named(&windows(&odd, &rules), &rules), ["times", "areas"]);
            let stepped = Rules { shape: Shape::Stepped, ..rules };
            assert_eq!(named(&windows(&even, &stepped), &stepped), ["evens"]);
        }
        // Codes that stay zero would look as if their area followed.
        let zeros: Vec<(i64, f64)> = (0..60).map(|_| (7, 0.0)).collect();
        assert_eq!(named(&windows(&zeros, &rules(Contents::State)), &rules(Contents::State)), [""; 0]);
    }

    #[test]
    fn single_part_rows_are_read() {
        // As rows were before they had two.
        let hex = "0102f51c37330700100080e0d9bdefdfadd73180b09dc2df010211018098f4d2b8e1add731092605c06a693503120180d08ee881e3add7310915066a2aaa2900040900000000000000000005090000000000000000000107010004036ad902141c01000036010000680100006c0100005a010000680100006c010000169b66ad41";
        let bytes = of_hex(hex);
        let rules = rules(Contents::State);
        let mut columns = WindowColumns::default();
        assert_eq!(decode(&[&bytes], Wants::ALL, &mut columns), Ok(rules.made()));
        let Encoded { bytes, more } = encode(&columns.to_windows(), rules.made());
        let mut again = WindowColumns::default();
        decode(&[&bytes, &more], Wants::ALL, &mut again).unwrap();
        assert_eq!(again.to_windows(), columns.to_windows());
        assert_eq!(columns.len(), 7);
    }

    #[test]
    fn version_1_rows_are_read_unchanged() {
        let bytes = of_hex(
            "01007677e3360700100080e0d9bdefdfadd73180b09dc2df010107010004036ad90206120101ec5d0e7817acbeaabbbbb8baaa0e000007070101f02e02043308080101f62e03b66d03420bc532",
        );
        let more = of_hex(
            "01007677e336070211018098f4d2b8e1add731092605c06a693503120180d08ee881e3add7310915066a2aaa290004080101f02e03284a0e05090101f22e0408024802093903a48cc2f5285cdf3fcae28d114cf4d73f8a3a592d6f8ce03f96f08b25bf58e23fab2dd1dfc96ad93f0c8c114cf477e23f00000000000000000a380537018000003700000000000044499224499224df6ddbb66ddb16100000000000f0274992244992e4bb6ddbb66ddb02020000000000b4000b3805380140000038000000000060796edbb66ddba6a16edbb66ddbc6a10000000000d6946edbb66ddba6a16edbb66ddbc6a10000000000404e0c39034065666666662b40ba3da8833aa80bc0ba1dd4411dd42c40c0cbcccccccc34c0923ca8833aa81140968aaff88aaf334000000000000000000e07010000036b5b0311190102b4a92815495587a159c2d74e83ca37d92c7b6827000000152301bcf5040401bcf5040701bcf5040701bcf5040601bcf5040701bcf5040701bcf50402f4a99f31",
        );
        let rules = rules(Contents::Gauge);
        let mut columns = WindowColumns::default();
        assert_eq!(decode(&[&bytes, &more], Wants::ALL, &mut columns), Ok(rules.made()));
        let made = windows(&steps(), &rules);
        assert_eq!(columns.len(), made.len());
        assert!(columns.to_windows().iter().zip(&made).all(|(read, made)| read.agrees(made)));
    }
}
