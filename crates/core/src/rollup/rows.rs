//! Windows at rest: a block of windows of one series, a column for each thing that is held of them.
//!
//! ```text
//! byte 0     version, 1
//! byte 1     contents: 0 gauge, 1 counter, 2 state, 3 histogram, 4 part
//! 4 bytes    mark of the rules under which it was made
//! varint     how many windows
//! columns    each: its number, a varint of its length, its bytes in the encodings of the block format; columns of zeros are left out
//! 4 bytes    CRC-32 of everything before
//! ```

use super::{
    sketch::Sketch,
    window::{Contents, Made, Moments, Steps, Window},
};
use crate::{
    block::{
        BlockError,
        bits::{Reader, put_double, put_varint},
        put_times, put_values, take_times, take_values,
    },
    summary::{Sample, Summary},
    time::Nanos,
};

const VERSION: u8 = 1;
const HEAD: usize = 6;
const MOST_WINDOWS: u64 = 65_536;

const STARTS: u8 = 0;
const COUNTS: u8 = 1;
const FIRST_TIMES: u8 = 2;
const LAST_TIMES: u8 = 3;
const FIRSTS: u8 = 4;
const LASTS: u8 = 5;
const SUMS: u8 = 6;
const MINS: u8 = 7;
const MAXS: u8 = 8;
const SQUARES: u8 = 9;
const TIMES: u8 = 10;
const TIME_SQUARES: u8 = 11;
const PRODUCTS: u8 = 12;
const GROWTHS: u8 = 13;
const CHANGES: u8 = 14;
const GAPS: u8 = 15;
const GAP_DELTAS: u8 = 16;
const AREAS: u8 = 17;
const UNHELD: u8 = 18;
const UNCOVERED: u8 = 19;
const STATES: u8 = 20;
const SKETCHES: u8 = 21;

/// Which parts of windows are read; count and sum always are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wants {
    /// The first and the last point.
    pub ends: bool,
    /// The least and the greatest.
    pub extremes: bool,
    /// [`Moments`].
    pub moments: bool,
    /// [`Steps`].
    pub steps: bool,
    /// States.
    pub states: bool,
    /// The sketch.
    pub sketch: bool,
}

impl Wants {
    /// Everything.
    pub const ALL: Self = Self { ends: true, extremes: true, moments: true, steps: true, states: true, sketch: true };
}

/// Bytes that are no windows.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a block of windows cannot be read: {0}")]
pub struct BadRows(#[from] BlockError);

fn contents_of(byte: u8) -> Option<Contents> {
    [Contents::Gauge, Contents::Counter, Contents::State, Contents::Histogram, Contents::Part].into_iter().find(|contents| *contents as u8 == byte)
}

/// What a column holds of a window.
type Of<T> = fn(&Window) -> T;

/// Packs windows, in order, of one series. Not empty, and no more than 65,536.
pub fn encode(windows: &[Window], made: Made) -> Vec<u8> {
    let mut out = vec![VERSION, made.contents as u8];
    out.extend_from_slice(&made.mark.to_le_bytes());
    put_varint(&mut out, windows.len() as u64);
    let mut scratch = Vec::new();
    let mut column = |number: u8, put: &mut dyn FnMut(&mut Vec<u8>)| {
        scratch.clear();
        put(&mut scratch);
        out.push(number);
        put_varint(&mut out, scratch.len() as u64);
        out.extend_from_slice(&scratch);
    };
    let times = |of: fn(&Window) -> Nanos| windows.iter().map(of).collect::<Vec<_>>();
    column(STARTS, &mut |out| put_times(&times(|window| window.start), out));
    column(FIRST_TIMES, &mut |out| put_times(&times(|window| window.summary.first.time), out));
    column(LAST_TIMES, &mut |out| put_times(&times(|window| window.summary.last.time), out));
    let samples: [(u8, Of<Sample>); 2] = [(FIRSTS, |window| window.summary.first), (LASTS, |window| window.summary.last)];
    for (number, of) in samples {
        let (values, rests): (Vec<f64>, Vec<i16>) = windows.iter().map(of).map(|sample| (sample.value, sample.rest)).unzip();
        column(number, &mut |out| put_values(&values, &rests, out));
    }
    let numbers: [(u8, Of<f64>); 15] = [
        (COUNTS, |window| window.summary.count as f64),
        (SUMS, |window| window.summary.sum),
        (MINS, |window| window.summary.min),
        (MAXS, |window| window.summary.max),
        (SQUARES, |window| window.moments.squares),
        (TIMES, |window| window.moments.time),
        (TIME_SQUARES, |window| window.moments.time_squares),
        (PRODUCTS, |window| window.moments.products),
        (GROWTHS, |window| window.steps.growth),
        (CHANGES, |window| window.steps.changes),
        (GAPS, |window| window.steps.gaps),
        (GAP_DELTAS, |window| window.steps.gap_delta),
        (AREAS, |window| window.steps.area),
        (UNHELD, |window| window.steps.unheld),
        (UNCOVERED, |window| window.steps.uncovered),
    ];
    for (number, of) in numbers {
        let values: Vec<f64> = windows.iter().map(of).collect();
        // Of codes there is no sum, and of a histogram's parts the least and the greatest are not asked for.
        let is_asked = match made.contents {
            Contents::Gauge | Contents::Counter => true,
            Contents::Part => !matches!(number, MINS | MAXS | CHANGES),
            Contents::State | Contents::Histogram => !matches!(number, SUMS | MINS | MAXS),
        };
        if is_asked && values.iter().any(|value| value.to_bits() != 0) {
            column(number, &mut |out| put_values(&values, &[], out));
        }
    }
    if made.contents == Contents::State {
        column(STATES, &mut |out| windows.iter().for_each(|window| put_states(&window.states, out)));
    }
    if made.contents.are_numbers() {
        column(SKETCHES, &mut |out| windows.iter().for_each(|window| window.sketch.put(out)));
    }
    let checksum = crc32fast::hash(&out);
    out.extend_from_slice(&checksum.to_le_bytes());
    out
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

/// Unpacks windows, with how they were made. What is not wanted is left empty.
///
/// # Errors
/// [`BadRows`] for what is no block of windows, or is damaged.
pub fn decode(bytes: &[u8], wants: Wants) -> Result<(Vec<Window>, Made), BadRows> {
    let body = bytes.len().checked_sub(4).filter(|length| *length >= HEAD).ok_or(BlockError::Short("header"))?;
    let (body, checksum) = bytes.split_at(body);
    let (found, computed) = (word(checksum), crc32fast::hash(body));
    if found != computed {
        return Err(BlockError::Checksum { found, computed }.into());
    }
    if body[0] != VERSION {
        return Err(BlockError::Unknown { part: "version of a block of windows", found: body[0] }.into());
    }
    let contents = contents_of(body[1]).ok_or(BlockError::Unknown { part: "contents of windows", found: body[1] })?;
    let mark = word(&body[2..HEAD]);
    let mut reader = Reader::new(&body[HEAD..]);
    let count = reader.varint("number of windows")?;
    if count == 0 || count > MOST_WINDOWS {
        return Err(BlockError::Bounds("number of windows").into());
    }
    let mut windows: Vec<Window> = std::iter::repeat_with(|| EMPTY).take(count as usize).collect();
    if matches!(contents, Contents::State | Contents::Histogram) {
        windows.iter_mut().for_each(|window| (window.summary.min, window.summary.max) = (f64::NEG_INFINITY, f64::INFINITY));
    }
    while !reader.is_empty() {
        let number = reader.byte("column")?;
        let length = reader.varint("column")?;
        let length = usize::try_from(length).map_err(|_| BlockError::Bounds("column"))?;
        let mut column = Reader::new(reader.take(length, "column")?);
        if is_wanted(number, wants) {
            read_column(number, &mut column, &mut windows)?;
        }
    }
    // A window that was never counted is one that was not written.
    if windows.iter().any(|window| window.summary.count == 0 || window.summary.first.time > window.summary.last.time) {
        return Err(BlockError::Bounds("windows").into());
    }
    Ok((windows, Made { contents, mark }))
}

fn word(bytes: &[u8]) -> u32 {
    let mut word = [0; 4];
    word.copy_from_slice(&bytes[..4]);
    u32::from_le_bytes(word)
}

const NOTHING: Sample = Sample { time: 0, value: 0.0, rest: 0 };
const EMPTY: Window = Window {
    start: 0,
    summary: Summary { count: 0, sum: 0.0, min: 0.0, max: 0.0, first: NOTHING, last: NOTHING, growth: None },
    moments: Moments { squares: 0.0, time: 0.0, time_squares: 0.0, products: 0.0 },
    steps: Steps { growth: 0.0, changes: 0.0, gaps: 0.0, gap_delta: 0.0, area: 0.0, unheld: 0.0, uncovered: 0.0 },
    states: Vec::new(),
    sketch: Sketch::EMPTY,
};

fn is_wanted(number: u8, wants: Wants) -> bool {
    match number {
        FIRST_TIMES | LAST_TIMES | FIRSTS | LASTS => wants.ends,
        MINS | MAXS => wants.extremes,
        SQUARES..=PRODUCTS => wants.moments,
        GROWTHS..=UNCOVERED => wants.steps,
        STATES => wants.states,
        SKETCHES => wants.sketch,
        _ => true,
    }
}

fn read_column(number: u8, column: &mut Reader<'_>, windows: &mut [Window]) -> Result<(), BlockError> {
    let count = windows.len();
    match number {
        STARTS | FIRST_TIMES | LAST_TIMES => {
            let mut times = Vec::new();
            take_times(count, column, &mut times)?;
            for (window, time) in windows.iter_mut().zip(times) {
                match number {
                    STARTS => window.start = time,
                    FIRST_TIMES => window.summary.first.time = time,
                    _ => window.summary.last.time = time,
                }
            }
        }
        FIRSTS | LASTS => {
            let (mut values, mut rests) = (Vec::new(), Vec::new());
            take_values(count, column, &mut values, &mut rests)?;
            for (at, (window, value)) in windows.iter_mut().zip(values).enumerate() {
                let sample = if number == FIRSTS { &mut window.summary.first } else { &mut window.summary.last };
                (sample.value, sample.rest) = (value, rests.get(at).copied().unwrap_or(0));
            }
        }
        STATES => {
            for window in windows {
                window.states = take_states(column)?;
            }
        }
        SKETCHES => {
            for window in windows {
                window.sketch = Sketch::take(column)?;
            }
        }
        COUNTS..=UNCOVERED => {
            let mut values = Vec::new();
            take_values(count, column, &mut values, &mut Vec::new())?;
            for (window, value) in windows.iter_mut().zip(values) {
                match place(number, window) {
                    Some(place) => *place = value,
                    None => window.summary.count = value as u64,
                }
            }
        }
        // Of a later version, which this one can do without.
        _ => {}
    }
    Ok(())
}

/// Where a column's numbers go; none for the counts, which are whole.
fn place(number: u8, window: &mut Window) -> Option<&mut f64> {
    Some(match number {
        SUMS => &mut window.summary.sum,
        MINS => &mut window.summary.min,
        MAXS => &mut window.summary.max,
        SQUARES => &mut window.moments.squares,
        TIMES => &mut window.moments.time,
        TIME_SQUARES => &mut window.moments.time_squares,
        PRODUCTS => &mut window.moments.products,
        GROWTHS => &mut window.steps.growth,
        CHANGES => &mut window.steps.changes,
        GAPS => &mut window.steps.gaps,
        GAP_DELTAS => &mut window.steps.gap_delta,
        AREAS => &mut window.steps.area,
        UNHELD => &mut window.steps.unheld,
        UNCOVERED => &mut window.steps.uncovered,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::{
        block::Columns,
        model::Shape,
        rollup::{Roller, Rules},
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
        fn windows_come_back_as_they_were(contents in contents(), steps in prop::collection::vec((1i64..100, -1e6f64..1e6), 1..80)) {
            let rules = rules(contents);
            let made = windows(&steps, &rules);
            let bytes = encode(&made, rules.made());
            let (back, told) = decode(&bytes, Wants::ALL).unwrap();
            prop_assert_eq!(told, rules.made());
            prop_assert_eq!(back.len(), made.len());
            for (back, made) in back.iter().zip(&made) {
                let is_number = matches!(contents, Contents::Gauge | Contents::Counter);
                if is_number { prop_assert_eq!(back, made); }
                prop_assert_eq!((&back.states, &back.sketch, back.start), (&made.states, &made.sketch, made.start));
                prop_assert_eq!((back.summary.count, back.summary.first, back.summary.last), (made.summary.count, made.summary.first, made.summary.last));
                prop_assert_eq!((back.steps.gaps, back.steps.growth, back.steps.unheld), (made.steps.gaps, made.steps.growth, made.steps.unheld));
            }
            let (few, _) = decode(&bytes, Wants::default()).unwrap();
            prop_assert!(few.iter().all(|window| window.sketch == Sketch::EMPTY && window.states.is_empty()));
            for cut in 0..bytes.len() { prop_assert!(decode(&bytes[..cut], Wants::ALL).is_err()); }
        }

        #[test]
        fn junk_with_a_right_checksum_never_panics(mut bytes in prop::collection::vec(any::<u8>(), 7..200), contents in 0u8..5, count in 1u8..40) {
            (bytes[0], bytes[1], bytes[6]) = (VERSION, contents, count);
            let checksum = crc32fast::hash(&bytes);
            bytes.extend_from_slice(&checksum.to_le_bytes());
            let _ = decode(&bytes, Wants::ALL);
        }
    }

    #[test]
    fn a_block_of_version_1_stays_as_it_is() {
        let steps: Vec<(i64, f64)> = (0..40).map(|i| (7 + i % 5, f64::from(i as i32 * i as i32 % 11) / 10.0 + 300.0)).collect();
        let told: String = [Contents::Gauge, Contents::Counter, Contents::State, Contents::Part]
            .into_iter()
            .map(|contents| {
                let rules = rules(contents);
                let bytes = encode(&windows(&steps, &rules), rules.made());
                format!("{contents:?}: {}\n", bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>())
            })
            .collect();
        insta::assert_snapshot!(told);
    }
}
