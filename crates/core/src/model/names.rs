//! Valid names and tag values.

/// The most tags that a series may carry.
pub const MAX_TAGS: usize = 64;
const MAX_NAME: usize = 200;
const MAX_VALUE: usize = 1_000;

/// Why a text cannot be a name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Nothing there.
    #[error("is empty")]
    Empty,
    /// Too many bytes.
    #[error("is {length} bytes long, the limit is {limit}")]
    TooLong {
        /// Bytes found.
        length: usize,
        /// Bytes allowed.
        limit: usize,
    },
    /// A control character or a line end.
    #[error("holds a control character (byte {position})")]
    Control {
        /// Where, in bytes from 0.
        position: usize,
    },
    /// A character that the name of a dataset, which is also a folder's, cannot have.
    #[error("holds `{0}`: use a to z, 0-9, `-` and `_`, starting with a letter or digit")]
    NotForDataset(char),
}

/// Checks the name of a metric or the key of a tag: 1 to 200 bytes without control characters.
///
/// # Errors
/// [`NameError`].
pub fn check_name(name: &str) -> Result<(), NameError> {
    check(name, MAX_NAME)
}

/// Checks a tag's value: 1 to 1,000 bytes without control characters.
///
/// # Errors
/// [`NameError`].
pub fn check_tag_value(value: &str) -> Result<(), NameError> {
    check(value, MAX_VALUE)
}

/// Checks the name of a dataset, which is also that of a folder: 1 to 64 of `a-z 0-9 - _`, not beginning with `-` or `_`.
///
/// # Errors
/// [`NameError`].
pub fn check_dataset_name(name: &str) -> Result<(), NameError> {
    check(name, 64)?;
    let allowed = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    if let Some(bad) = name.chars().find(|c| !allowed(*c)) {
        return Err(NameError::NotForDataset(bad));
    }
    match name.chars().next() {
        Some(first @ ('-' | '_')) => Err(NameError::NotForDataset(first)),
        _ => Ok(()),
    }
}

fn check(text: &str, limit: usize) -> Result<(), NameError> {
    if text.is_empty() {
        return Err(NameError::Empty);
    }
    if text.len() > limit {
        return Err(NameError::TooLong { length: text.len(), limit });
    }
    match text.char_indices().find(|(_, c)| c.is_control()) {
        Some((position, _)) => Err(NameError::Control { position }),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_checked() {
        assert_eq!(check_name("water_temp"), Ok(()));
        assert_eq!(check_name("Odd näme"), Ok(()));
        assert_eq!(check_name(""), Err(NameError::Empty));
        assert_eq!(check_name("a\nb"), Err(NameError::Control { position: 1 }));
        assert!(matches!(check_name(&"x".repeat(201)), Err(NameError::TooLong { length: 201, limit: 200 })));
        assert_eq!(check_tag_value(&"x".repeat(1_000)), Ok(()));
    }

    #[test]
    fn a_dataset_name_can_be_a_folder() {
        assert_eq!(check_dataset_name("velmar-2"), Ok(()));
        assert_eq!(check_dataset_name("../up"), Err(NameError::NotForDataset('.')));
        assert_eq!(check_dataset_name("_x"), Err(NameError::NotForDataset('_')));
        assert_eq!(check_dataset_name("Velmar"), Err(NameError::NotForDataset('V')));
    }
}
