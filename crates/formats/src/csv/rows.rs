//! Where rows end, by RFC 4180: a quote counts only at the beginning of a cell, and inside a quoted cell two of them are one.

/// What a scan of some rows found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Scan {
    /// Bytes up to the end of the last whole row.
    pub end: usize,
    /// After that, a quoted cell was opened and not closed.
    pub is_open: bool,
}

#[derive(Clone, Copy, PartialEq)]
enum State {
    /// At the beginning of a cell.
    Begins,
    /// Inside a cell without quotes, or after the closing quote of one with.
    Plain,
    Quoted,
    /// After a quote inside a quoted cell: it closes the cell, unless another follows.
    Closing,
}

/// Scans rows, the first of which begins with the bytes.
pub fn scan(bytes: &[u8], delimiter: u8, quote: u8) -> Scan {
    if memchr::memchr(quote, bytes).is_none() {
        return Scan { end: memchr::memrchr(b'\n', bytes).map_or(0, |at| at + 1), is_open: false };
    }
    let (mut state, mut end, mut next) = (State::Begins, 0, 0);
    for at in memchr::memchr3_iter(delimiter, quote, b'\n', bytes) {
        // Whatever stands between two of these is a part of a cell.
        if at > next {
            state = match state {
                State::Quoted => State::Quoted,
                _ => State::Plain,
            };
        }
        next = at + 1;
        let byte = bytes[at];
        state = match (state, byte) {
            (State::Quoted, _) if byte == quote => State::Closing,
            (State::Quoted, _) => State::Quoted,
            (State::Begins | State::Closing, _) if byte == quote => State::Quoted,
            (State::Plain, _) if byte == quote => State::Plain,
            (_, b'\n') => {
                end = at + 1;
                State::Begins
            }
            _ => State::Begins,
        };
    }
    Scan { end, is_open: state == State::Quoted }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn scanned(text: &str) -> (usize, bool) {
        let Scan { end, is_open } = scan(text.as_bytes(), b',', b'"');
        (end, is_open)
    }

    #[test]
    fn a_quote_opens_a_cell_only_at_its_start() {
        assert_eq!(scanned("a,b\nc"), (4, false));
        // 3.5" is a length in inches.
        assert_eq!(scanned("osier,3.5\"\nmarl,4\n"), (18, false));
        assert_eq!(scanned("\"a\nb\",1\nc,2\n"), (12, false));
        assert_eq!(scanned("\"say \"\"no\"\"\",1\n"), (15, false));
        assert_eq!(scanned("a,1\n\"b,2\nc,3\n"), (4, true));
        assert_eq!(scanned("\"\",1\n"), (5, false));
        assert_eq!(scanned("\"a\"b,\"\n"), (0, true));
    }

    proptest! {
        #[test]
        fn rows_end_where_the_parser_ends_them(cells in prop::collection::vec("[a\",\n]{0,4}", 1..12), width in 1usize..4) {
            let mut writer = ::csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
            let rows: Vec<&[String]> = cells.chunks(width).collect();
            rows.iter().for_each(|row| writer.write_record(*row).unwrap());
            let text = writer.into_inner().unwrap();
            // Cut anywhere, the whole rows before the cut are those that the parser finds there.
            let ends: Vec<usize> = {
                let mut reader = ::csv::ReaderBuilder::new().flexible(true).has_headers(false).from_reader(&text[..]);
                let mut record = ::csv::ByteRecord::new();
                let mut ends = vec![0];
                while reader.read_byte_record(&mut record).unwrap() {
                    ends.push(reader.position().byte() as usize);
                }
                ends
            };
            for cut in 0..=text.len() {
                let wanted = ends.iter().rev().find(|end| **end <= cut).copied().unwrap_or(0);
                let found = scan(&text[..cut], b',', b'"').end;
                prop_assert_eq!(found, wanted, "{:?} cut at {}", String::from_utf8_lossy(&text), cut);
            }
        }
    }
}
