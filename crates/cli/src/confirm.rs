//! Confirmation of large changes: typed in a terminal, elsewhere given by an option.

use std::io::{self, IsTerminal};

use crate::{
    failure::{Failure, WRONG},
    output::lines::talk,
};

/// Whether to go on: `--yes`, or the expected word typed. Where nobody can type, nothing is done.
pub fn confirm(yes: bool, question: &str, expected: &str) -> Result<bool, Failure> {
    if yes {
        return Ok(true);
    }
    if !io::stdin().is_terminal() {
        return Err(Failure::new(WRONG, "nothing was changed: add --yes to do it without being asked"));
    }
    talk(format_args!("{question} Type `{expected}`: "));
    let mut answer = String::new();
    io::stdin().read_line(&mut answer)?;
    Ok(answer.trim() == expected)
}
