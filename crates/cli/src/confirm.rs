//! What changes much is asked for: in a terminal by typing, elsewhere by an option.

use std::io::{self, IsTerminal, Write};

use crate::failure::{Failure, WRONG};

/// Whether to go on: `--yes`, or the expected word typed. Where nobody can type, nothing is done.
pub fn confirm(yes: bool, question: &str, expected: &str) -> Result<bool, Failure> {
    if yes {
        return Ok(true);
    }
    if !io::stdin().is_terminal() {
        return Err(Failure::new(WRONG, "nothing was changed: add --yes to do it without being asked"));
    }
    eprint!("{question} Type `{expected}`: ");
    io::stderr().flush()?;
    let mut answer = String::new();
    io::stdin().read_line(&mut answer)?;
    Ok(answer.trim() == expected)
}
