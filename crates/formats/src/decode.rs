//! Text to UTF-8: by the byte order mark, or by the encoding that a mapping names.

use encoding_rs::{CoderResult, Decoder, Encoding, UTF_8};

/// Turns text of any encoding into UTF-8, part by part. UTF-8 passes as it is, without its mark.
pub struct TextDecoder {
    wanted: Option<&'static Encoding>,
    state: State,
}

enum State {
    Start,
    Plain,
    Decoding(Box<Decoder>),
}

impl TextDecoder {
    /// For text of an encoding, as the web names it; without one, the mark decides, and UTF-8 where there is none.
    pub fn new(encoding: Option<&str>) -> Self {
        Self { wanted: encoding.and_then(|name| Encoding::for_label(name.as_bytes())), state: State::Start }
    }

    /// Appends a part of the text to `out`; returns the encoding where the first part shows one that is not UTF-8.
    pub fn decode(&mut self, bytes: &[u8], is_last: bool, out: &mut Vec<u8>) -> Option<&'static str> {
        let (mut bytes, mut found) = (bytes, None);
        if let State::Start = self.state {
            let marked = Encoding::for_bom(bytes);
            bytes = &bytes[marked.map_or(0, |(_, length)| length)..];
            let encoding = self.wanted.or(marked.map(|(encoding, _)| encoding)).unwrap_or(UTF_8);
            self.state = if encoding == UTF_8 { State::Plain } else { State::Decoding(Box::new(encoding.new_decoder_without_bom_handling())) };
            found = (encoding != UTF_8).then(|| encoding.name());
        }
        match &mut self.state {
            State::Start | State::Plain => out.extend_from_slice(bytes),
            State::Decoding(decoder) => {
                let mut text = String::with_capacity(decoder.max_utf8_buffer_length(bytes.len()).unwrap_or(bytes.len() * 3));
                // There is room for all of it, so once is enough; what is no letter becomes U+FFFD.
                let (_result, _read, _) = decoder.decode_to_string(bytes, &mut text, is_last);
                debug_assert_eq!(_result, CoderResult::InputEmpty);
                out.extend_from_slice(text.as_bytes());
            }
        }
        found
    }

    /// Whether text passes as it is, so that nothing need be copied.
    pub fn is_plain(bytes: &[u8], encoding: Option<&str>) -> bool {
        let is_utf8 = encoding.is_none_or(|name| Encoding::for_label(name.as_bytes()) == Some(UTF_8));
        is_utf8 && Encoding::for_bom(bytes).is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn decoded(parts: &[&[u8]], encoding: Option<&str>) -> String {
        let (mut letters, mut out) = (TextDecoder::new(encoding), Vec::new());
        for (i, part) in parts.iter().enumerate() {
            letters.decode(part, i + 1 == parts.len(), &mut out);
        }
        String::from_utf8(out).unwrap()
    }

    #[test]
    fn text_is_decoded_to_utf8() {
        assert_eq!(decoded(&[b"\xef\xbb\xbfzeit", b",pegel"], None), "zeit,pegel");
        assert_eq!(decoded(&[b"\xff\xfel\0", b"\xe4\0"], None), "lä");
        assert_eq!(decoded(&[b"\xe4\x80"], Some("windows-1252")), "ä€");
        assert!(
            TextDecoder::is_plain(b"abc", None) && !TextDecoder::is_plain(b"\xff\xfea\0", None) && !TextDecoder::is_plain(b"a", Some("windows-1252"))
        );
    }
}
