//! An array of JSON, element by element, as its bytes come.

use serde_json::value::RawValue;

use super::bare;
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
}

impl Default for Elements {
    fn default() -> Self {
        Self { place: Place::Before, line: 1 }
    }
}

impl Elements {
    /// Gives each element that is there as a whole, with its line, and says how many bytes it is done with.
    pub fn read<'b>(&mut self, bytes: &'b [u8], is_last: bool, mut give: impl FnMut(&'b str, u64)) -> Result<usize, FormatError> {
        let mut at = 0;
        loop {
            let spaces = bytes[at..].iter().take_while(|byte| byte.is_ascii_whitespace()).count();
            self.line += newlines(&bytes[at..at + spaces]);
            at += spaces;
            let Some(byte) = bytes.get(at) else { return self.ended(bytes, at, is_last) };
            match (self.place, byte) {
                (Place::Before, b'[') => {
                    self.place = Place::Inside { after_comma: false, after_element: false };
                    at += 1;
                }
                (Place::Before, _) if !is_last => return Ok(at),
                (Place::Inside { after_element: true, .. }, b',') => {
                    self.place = Place::Inside { after_comma: true, after_element: false };
                    at += 1;
                }
                (Place::Inside { after_comma: false, .. }, b']') => {
                    self.place = Place::After;
                    at += 1;
                }
                (Place::Before | Place::Inside { after_element: false, .. }, _) => match self.element(&bytes[at..], is_last)? {
                    None => return Ok(at),
                    Some(text) => {
                        give(text, self.line);
                        self.line += newlines(text.as_bytes());
                        at += text.len();
                        self.place =
                            if self.place == Place::Before { Place::After } else { Place::Inside { after_comma: false, after_element: true } };
                    }
                },
                (Place::Inside { .. }, _) => return Err(self.fault(bytes, at, "it is not JSON, expected `,` or `]`")),
                (Place::After, _) => return Err(self.fault(bytes, at, "trailing characters")),
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
            Some(Err(error)) => Err(FormatError::Json { reason: bare(&error), line: self.line as usize + error.line() - 1, column: error.column() }),
            None => Ok(None),
        }
    }

    fn ended(&self, bytes: &[u8], at: usize, is_last: bool) -> Result<usize, FormatError> {
        if is_last && self.place != Place::After { Err(self.fault(bytes, at, "it ends too early")) } else { Ok(at) }
    }

    fn fault(&self, bytes: &[u8], at: usize, reason: &str) -> FormatError {
        let line_start = memchr::memrchr(b'\n', &bytes[..at]).map_or(0, |end| end + 1);
        FormatError::Json { reason: reason.to_owned(), line: self.line as usize, column: at - line_start + 1 }
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

    fn whole(text: &str) -> Result<Vec<(String, u64)>, FormatError> {
        let mut found = Vec::new();
        Elements::default().read(text.as_bytes(), true, |text, line| found.push((text.to_owned(), line))).map(|_| found)
    }

    #[test]
    fn documents_that_are_no_json_are_refused() {
        for text in ["", " ", "[", "[1,]", "[,1]", "[1 2]", "[1]]", "{\"a\":1} x", "[{\"a\": }]", "[{\"a\":1}"] {
            assert!(whole(text).is_err(), "{text}");
        }
        assert_eq!(whole("[]").unwrap(), []);
        assert_eq!(whole("[{},\n{}]").unwrap(), [("{}".to_owned(), 1), ("{}".to_owned(), 2)]);
        assert_eq!(whole("\n{}").unwrap(), [("{}".to_owned(), 2)]);
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
                at += elements.read(&text.as_bytes()[at..end], end == text.len(), |text, line| found.push((text.to_owned(), line))).unwrap();
            }
            prop_assert_eq!(found, whole(&text).unwrap());
        }
    }
}
