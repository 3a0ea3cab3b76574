//! The terminal that results are read in, if any.

use std::io::{self, IsTerminal};

/// Where nobody says how wide it is.
const DEFAULT_WIDTH: u16 = 100;

/// Columns by `COLUMNS`, else of the terminal, if there is one.
pub fn terminal_width() -> Option<u16> {
    let stated = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    stated.or_else(|| comfy_table::Table::new().width().filter(|_| io::stdout().is_terminal()))
}

/// Columns for what must have some width.
pub fn width() -> u16 {
    terminal_width().unwrap_or(DEFAULT_WIDTH)
}

/// A paragraph, in lines that fit the terminal; those after the first begin with `indent`. Elsewhere it stays one line.
pub fn paragraph(text: &str, indent: &str) -> String {
    terminal_width().map_or_else(|| text.to_owned(), |width| wrapped(text, indent, width))
}

fn wrapped(text: &str, indent: &str, width: u16) -> String {
    textwrap::fill(text, textwrap::Options::new(usize::from(width).max(40)).subsequent_indent(indent).break_words(false))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_end_between_words() {
        let text = "220 kB a day (197,588 points), 22.8 MB in 30 days; at rest 160 MB from 2027-11-17";
        assert_eq!(wrapped(text, "  ", 44), "220 kB a day (197,588 points), 22.8 MB in 30\n  days; at rest 160 MB from 2027-11-17");
        assert_eq!(wrapped(text, "  ", 200), text);
        assert_eq!(wrapped("/a/path/that/is/longer/than/the/terminal/is/wide", "  ", 10), "/a/path/that/is/longer/than/the/terminal/is/wide");
    }
}
