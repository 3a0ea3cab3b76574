//! Secrets from the terminal or from standard input.

use std::io::{self, IsTerminal, Read};

use crate::failure::Failure;

/// Longest secret, in bytes.
const MAX_SECRET: u64 = 64 << 10;

/// Reads a secret without its line end. The terminal does not show it.
pub fn typed_secret(what: &str) -> Result<String, Failure> {
    let text = if io::stdin().is_terminal() {
        rpassword::prompt_password(format!("{what} (not shown): "))?
    } else {
        let mut text = String::new();
        io::stdin().take(MAX_SECRET + 1).read_to_string(&mut text)?;
        text
    };
    Ok(text.trim_end_matches(['\n', '\r']).to_owned())
}
