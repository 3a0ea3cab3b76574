//! Compressed bodies and files, decompressed within a limit.

use std::io::Read;

use crate::FormatError;

/// How bytes are compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// Not at all.
    Identity,
    /// RFC 1952.
    Gzip,
    /// RFC 8878.
    Zstd,
}

impl Encoding {
    /// The encoding of a `Content-Encoding` header.
    pub fn from_header(name: &str) -> Option<Self> {
        match name.trim().to_ascii_lowercase().as_str() {
            "" | "identity" => Some(Self::Identity),
            "gzip" | "x-gzip" => Some(Self::Gzip),
            "zstd" => Some(Self::Zstd),
            _ => None,
        }
    }

    /// The encoding that a file's first bytes show.
    pub fn sniff(start: &[u8]) -> Self {
        match start {
            [0x1f, 0x8b, ..] => Self::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Self::Zstd,
            _ => Self::Identity,
        }
    }

    fn name(self) -> &'static str {
        match self {
            Self::Identity => "identity",
            Self::Gzip => "gzip",
            Self::Zstd => "zstd",
        }
    }

    /// A reader of the decompressed bytes that owns what it reads.
    ///
    /// # Errors
    /// If the decoder cannot be set up.
    pub fn reader_of(self, packed: impl Read + Send + 'static) -> std::io::Result<Box<dyn Read + Send>> {
        Ok(match self {
            Self::Identity => Box::new(packed),
            Self::Gzip => Box::new(flate2::read::MultiGzDecoder::new(packed)),
            Self::Zstd => Box::new(zstd::Decoder::new(packed)?),
        })
    }

    /// A reader of the decompressed bytes.
    ///
    /// # Errors
    /// If the decoder cannot be set up.
    fn reader<'a>(self, packed: impl Read + 'a) -> std::io::Result<Box<dyn Read + 'a>> {
        Ok(match self {
            Self::Identity => Box::new(packed),
            Self::Gzip => Box::new(flate2::read::MultiGzDecoder::new(packed)),
            Self::Zstd => Box::new(zstd::Decoder::new(packed)?),
        })
    }
}

/// Unfolds a body to at most `limit` bytes.
///
/// # Errors
/// [`FormatError::Compressed`] for damaged or cut bytes, [`FormatError::TooLarge`] past the limit.
pub fn unpack(encoding: Encoding, body: Vec<u8>, limit: usize) -> Result<Vec<u8>, FormatError> {
    if encoding == Encoding::Identity {
        return if body.len() > limit { Err(FormatError::TooLarge { limit }) } else { Ok(body) };
    }
    let failed = |error: std::io::Error| FormatError::Compressed { encoding: encoding.name(), reason: error.to_string() };
    let mut out = Vec::new();
    let reader = encoding.reader(body.as_slice()).map_err(failed)?;
    reader.take(limit as u64 + 1).read_to_end(&mut out).map_err(failed)?;
    if out.len() > limit { Err(FormatError::TooLarge { limit }) } else { Ok(out) }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn gzip(bytes: &[u8]) -> Vec<u8> {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(bytes).unwrap();
        encoder.finish().unwrap()
    }

    #[test]
    fn compressed_bodies_unfold() {
        let text = b"lock,level\nosier,312.5\n".repeat(50);
        let packed = [(Encoding::Gzip, gzip(&text)), (Encoding::Zstd, zstd::encode_all(&text[..], 1).unwrap()), (Encoding::Identity, text.clone())];
        for (encoding, body) in packed {
            assert_eq!(Encoding::sniff(&body), encoding);
            assert_eq!(unpack(encoding, body, 10_000).unwrap(), text);
        }
    }

    #[test]
    fn a_body_that_decompresses_past_the_limit_is_refused() {
        let zeros = vec![0; 1_000_000];
        for (encoding, body) in
            [(Encoding::Gzip, gzip(&zeros)), (Encoding::Zstd, zstd::encode_all(&zeros[..], 1).unwrap()), (Encoding::Identity, zeros)]
        {
            assert_eq!(unpack(encoding, body, 999_999), Err(FormatError::TooLarge { limit: 999_999 }));
        }
    }

    #[test]
    fn truncated_or_foreign_bytes_are_an_error() {
        let mut cut = gzip(b"some text that is long enough to be cut");
        cut.truncate(20);
        assert!(matches!(unpack(Encoding::Gzip, cut, 1_000), Err(FormatError::Compressed { encoding: "gzip", .. })));
        assert!(matches!(unpack(Encoding::Zstd, b"plain".to_vec(), 1_000), Err(FormatError::Compressed { .. })));
    }
}
