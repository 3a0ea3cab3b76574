//! The text of a token: `fenetre_`, 256 random bits and a CRC-32 of them, in hexadecimal. The prefix lets scanners of leaked secrets find one,
//! the checksum recognises a mistyped one without a look-up. Only the SHA-256 digest is stored: of 256 random bits, no slow hash is needed.

use std::fmt;

use sha2::{Digest as _, Sha256};
use subtle::ConstantTimeEq;

use crate::error::AccessError;

/// What every token begins with.
pub const PREFIX: &str = "fenetre_";
const BYTES: usize = 32;

/// A secret: the text of a token, or the content of a session's cookie. It is never printed by accident.
#[derive(Clone)]
pub struct Secret([u8; BYTES]);

/// The SHA-256 digest of a secret.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Digest(pub [u8; 32]);

/// Why a text is no token.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SecretError {
    /// It has another form.
    #[error("a token begins with `{PREFIX}` and has 80 characters")]
    Form,
    /// The form is right, the checksum is not.
    #[error("its checksum does not match, so it was mistyped or cut")]
    Checksum,
}

impl Secret {
    /// Creates a secret from random bits.
    ///
    /// # Errors
    /// If the system has no random numbers.
    pub fn random() -> Result<Self, AccessError> {
        let mut bytes = [0; BYTES];
        getrandom::fill(&mut bytes)?;
        Ok(Self(bytes))
    }

    /// Reads the text of a token.
    ///
    /// # Errors
    /// [`SecretError`], which quotes nothing of the text.
    pub fn parse(text: &str) -> Result<Self, SecretError> {
        let (bytes, checksum) = text.strip_prefix(PREFIX).and_then(|hex| hex.split_at_checked(2 * BYTES)).ok_or(SecretError::Form)?;
        let bytes: [u8; BYTES] = from_hex(bytes).ok_or(SecretError::Form)?;
        let checksum: [u8; 4] = from_hex(checksum).ok_or(SecretError::Form)?;
        if u32::from_be_bytes(checksum) == crc32fast::hash(&bytes) { Ok(Self(bytes)) } else { Err(SecretError::Checksum) }
    }

    /// Reads the content of a session's cookie.
    pub fn from_cookie(text: &str) -> Option<Self> {
        from_hex(text).map(Self)
    }

    /// The secret of a token, which is shown once.
    pub fn token_text(&self) -> String {
        format!("{PREFIX}{}{:08x}", self.cookie_text(), crc32fast::hash(&self.0))
    }

    /// The content of a session's cookie.
    pub fn cookie_text(&self) -> String {
        to_hex(&self.0)
    }

    /// What is stored of it.
    pub fn digest(&self) -> Digest {
        Digest(Sha256::digest(self.0).into())
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(hidden)")
    }
}

impl Digest {
    /// Whether it is the same, in a time that does not depend on where they differ.
    pub fn is(&self, other: &Self) -> bool {
        self.0.ct_eq(&other.0).into()
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Digest(hidden)")
    }
}

/// Bytes as small hexadecimal digits.
pub fn to_hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn from_hex<const N: usize>(text: &str) -> Option<[u8; N]> {
    if text.len() != 2 * N || !text.bytes().all(|digit| matches!(digit, b'0'..=b'9' | b'a'..=b'f')) {
        return None;
    }
    let mut bytes = [0; N];
    for (at, byte) in bytes.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&text[2 * at..2 * at + 2], 16).ok()?;
    }
    Some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_text_of_a_token_leads_back_to_its_digest() {
        let secret = Secret::random().unwrap();
        let text = secret.token_text();
        assert_eq!((text.len(), text.starts_with(PREFIX)), (80, true));
        assert!(Secret::parse(&text).unwrap().digest().is(&secret.digest()));
        assert!(Secret::from_cookie(&secret.cookie_text()).unwrap().digest().is(&secret.digest()));
        assert!(!Secret::random().unwrap().digest().is(&secret.digest()));
    }

    #[test]
    fn mistyped_tokens_are_recognised() {
        let text = Secret::random().unwrap().token_text();
        for at in PREFIX.len()..text.len() {
            let digit = if &text[at..=at] == "0" { "1" } else { "0" };
            let mistyped = format!("{}{digit}{}", &text[..at], &text[at + 1..]);
            assert_eq!(Secret::parse(&mistyped).unwrap_err(), SecretError::Checksum, "{at}");
        }
        for other in
            ["", "fenetre_", "fenetre_ab", &text[..79], &format!("{text}0"), &text.to_uppercase(), &text.replace("fenetre_", "fenetre-"), "é"]
        {
            assert_eq!(Secret::parse(other).unwrap_err(), SecretError::Form, "{other}");
        }
    }

    #[test]
    fn secrets_are_not_printed() {
        let secret = Secret::random().unwrap();
        let printed = format!("{secret:?} {:?}", secret.digest());
        assert_eq!(printed, "Secret(hidden) Digest(hidden)");
    }
}
