//! An array of JSON, element by element, as its bytes come.

use serde_json::value::RawValue;

use super::fault::without_place;
use crate::FormatError;

/// Where in a document the next byte stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Place {
    #[default]
    Before,
    /// Inside the array; whether an element must come, since a comma has.
    Inside {
        after_comma: bool,
        after_element: bool,
    },
    After,
}

/// Takes an array apart. A document that is no array is its only element.
#[derive(Debug)]
pub struct Elements {
    place: Place,
    /// Line of the next byte, from 1.
    line: u64,
    /// Bytes of that line before it.
    column: u64,
    /// Elements that were given.
    given: u64,
    is_array: bool,
}

impl Default for Elements {
    fn default() -> Self {
        Self { place: Place::Before, line: 1, column: 0, given: 0, is_array: false }
    }
}

/// An element, and where it is in the body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Element<'b> {
    /// Its JSON.
    pub text: &'b str,
    /// From 1.
    pub line: u64,
    /// Bytes of that line before it.
    pub column: u64,
    /// Among those of an array, from 0.
    pub index: Option<u64>,
}

impl Element<'_> {
    /// Line and column in the body, from 1, of a fault that a parser found in the element.
    pub fn place_of(&self, error: &serde_json::Error) -> (u64, u64) {
        let before = if error.line() <= 1 { self.column } else { 0 };
        (self.line + (error.line() as u64).saturating_sub(1), before + error.column() as u64)
    }
}

impl Elements {
    /// Gives each element that is there as a whole, with its line, and says how many bytes it is done with.
    pub fn read<'b>(&mut self, bytes: &'b [u8], is_last: bool, mut give: impl FnMut(Element<'b>)) -> Result<usize, FormatError> {
        let mut at = 0;
        loop {
            let spaces = bytes[at..].iter().take_while(|byte| byte.is_ascii_whitespace()).count();
            self.pass(&bytes[at..at + spaces]);
            at += spaces;
            let Some(byte) = bytes.get(at) else { return self.ended(at, is_last) };
            match (self.place, byte) {
                (Place::Before, b'[') => {
                    self.place = Place::Inside { after_comma: false, after_element: false };
                    self.is_array = true;
                    self.pass(b"[");
                    at += 1;
                }
                (Place::Before, _) if !is_last => return Ok(at),
                (Place::Inside { after_element: true, .. }, b',') => {
                    self.place = Place::Inside { after_comma: true, after_element: false };
                    self.pass(b",");
                    at += 1;
                }
                (Place::Inside { after_comma: false, .. }, b']') => {
                    self.place = Place::After;
                    self.pass(b"]");
                    at += 1;
                }
                (Place::Before | Place::Inside { after_element: false, .. }, _) => match self.element(&bytes[at..], is_last)? {
                    None => return Ok(at),
                    Some(text) => {
                        give(Element { text, line: self.line, column: self.column, index: self.is_array.then_some(self.given) });
                        self.given += 1;
                        self.pass(text.as_bytes());
                        at += text.len();
                        self.place =
                            if self.place == Place::Before { Place::After } else { Place::Inside { after_comma: false, after_element: true } };
                    }
                },
                (Place::Inside { .. }, _) => return Err(self.fault("it is not JSON, expected `,` or `]`")),
                (Place::After, _) => return Err(self.fault("trailing characters")),
            }
        }
    }

    fn element<'b>(&self, bytes: &'b [u8], is_last: bool) -> Result<Option<&'b str>, FormatError> {
        let mut values = serde_json::Deserializer::from_slice(bytes).into_iter::<&RawValue>();
        match values.next() {
            // A number at the end of a part may go on in the next one.
            Some(Ok(_)) if !is_last && values.byte_offset() == bytes.len() => Ok(None),
            Some(Ok(value)) => Ok(Some(value.get())),
            // What is cut may look wrong at its end: a lone minus, half an escape.
            Some(Err(error)) if !is_last && (error.is_eof() || reaches_end(bytes, &error)) => Ok(None),
            Some(Err(error)) => {
                let (line, column) = Element { text: "", line: self.line, column: self.column, index: None }.place_of(&error);
                Err(FormatError::Json { reason: without_place(&error), line: line as usize, column: column as usize })
            }
            None => Ok(None),
        }
    }

    fn ended(&self, at: usize, is_last: bool) -> Result<usize, FormatError> {
        if is_last && self.place != Place::After { Err(self.fault("it ends too early")) } else { Ok(at) }
    }

    /// Goes on behind some bytes.
    fn pass(&mut self, bytes: &[u8]) {
        self.line += newlines(bytes);
        self.column = match memchr::memrchr(b'\n', bytes) {
            Some(end) => (bytes.len() - end - 1) as u64,
            None => self.column + bytes.len() as u64,
        };
    }

    fn fault(&self, reason: &str) -> FormatError {
        FormatError::Json { reason: reason.to_owned(), line: self.line as usize, column: self.column as usize + 1 }
    }
}

/// Whether an error lies in the last bytes.
fn reaches_end(bytes: &[u8], error: &serde_json::Error) -> bool {
    let line_start =
        memchr::memchr_iter(b'\n', bytes).nth(error.line().saturating_sub(2)).map_or(0, |end| if error.line() > 1 { end + 1 } else { 0 });
    line_start + error.column() + 1 >= bytes.len()
}

fn newlines(bytes: &[u8]) -> u64 {
    memchr::memchr_iter(b'\n', bytes).count() as u64
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// The text, line, column and index of each element.
    type Found = Vec<(String, u64, u64, Option<u64>)>;

    fn put(found: &mut Found) -> impl FnMut(Element<'_>) {
        |element| found.push((element.text.to_owned(), element.line, element.column, element.index))
    }

    fn whole(text: &str) -> Result<Found, FormatError> {
        let mut found = Vec::new();
        Elements::default().read(text.as_bytes(), true, put(&mut found)).map(|_| found)
    }

    #[test]
    fn documents_that_are_no_json_are_refused() {
        for text in ["", " ", "[", "[1,]", "[,1]", "[1 2]", "[1]]", "{\"a\":1} x", "[{\"a\": }]", "[{\"a\":1}"] {
            assert!(whole(text).is_err(), "{text}");
        }
        assert_eq!(whole("[]").unwrap(), []);
        let object = |line, column, index| ("{}".to_owned(), line, column, index);
        assert_eq!(whole("[{}, {},\n {}]").unwrap(), [object(1, 1, Some(0)), object(1, 5, Some(1)), object(2, 1, Some(2))]);
        assert_eq!(whole("\n{}").unwrap(), [object(2, 0, None)]);
    }

    #[test]
    fn columns_of_faults_count_from_the_start_of_the_body() {
        let place = |text: &str| match whole(text) {
            Err(FormatError::Json { line, column, .. }) => (line, column),
            other => panic!("{other:?}"),
        };
        assert_eq!([place("[{}, {}, {\"a\": }]"), place("[{},\n  {\"a\": }]"), place("[{} {}]")], [(1, 16), (2, 9), (1, 5)]);
    }

    proptest! {
        #[test]
        fn parts_give_what_the_whole_gives(items in prop::collection::vec(("[a-z\"\\\\]{0,6}", any::<i32>(), 0usize..3), 0..12), cuts in prop::collection::vec(any::<prop::sample::Index>(), 0..6)) {
            let items: Vec<String> = items.iter().map(|(text, number, breaks)| match breaks {
                0 => number.to_string(),
                _ => format!("{{{}\"k\": [{}, {number}]}}", "\n".repeat(*breaks), serde_json::to_string(text).unwrap()),
            }).collect();
            let text = format!(" [{}\n] ", items.join(" ,\n"));
            let mut ends: Vec<usize> = cuts.iter().map(|cut| cut.index(text.len())).chain([text.len()]).collect();
            ends.sort_unstable();
            let (mut elements, mut at, mut found) = (Elements::default(), 0, Vec::new());
            for end in ends {
                at += elements.read(&text.as_bytes()[at..end], end == text.len(), put(&mut found)).unwrap();
            }
            prop_assert_eq!(found, whole(&text).unwrap());
        }
    }
}
