//! Lines for people, on standard output and standard error, that outlive their readers.
//!
//! `println!` panics after its reader closed the pipe, as in `fenetre metrics | head`. A result that nobody reads any more ends the command
//! quietly, with the code a shell gives for that; messages that nobody reads are dropped, and the work continues.

use std::{
    fmt::Arguments,
    io::{self, ErrorKind, Write},
    process::exit,
};

use crate::failure::{FAILED, READER_GONE};

/// Writes a part of a result to standard output.
pub fn result(text: Arguments<'_>) {
    let mut out = io::stdout().lock();
    // Other write errors, such as a full disk, have no better place to be reported.
    if let Err(error) = out.write_fmt(text).and_then(|()| out.flush()) {
        if error.kind() == ErrorKind::BrokenPipe {
            exit(i32::from(READER_GONE));
        }
        talk(format_args!("fenetre: the result cannot be written: {error}\n"));
        exit(i32::from(FAILED));
    }
}

/// Writes progress or a remark to standard error.
pub fn talk(text: Arguments<'_>) {
    let _ = io::stderr().lock().write_fmt(text);
}

/// A part of a result, as `print!`.
macro_rules! out {
    ($($text:tt)*) => { $crate::output::lines::result(format_args!($($text)*)) };
}

/// A line of a result, as `println!`.
macro_rules! outln {
    () => { $crate::output::lines::result(format_args!("\n")) };
    ($($text:tt)*) => { $crate::output::lines::result(format_args!("{}\n", format_args!($($text)*))) };
}

/// A line of talk, as `eprintln!`.
macro_rules! noteln {
    ($($text:tt)*) => { $crate::output::lines::talk(format_args!("{}\n", format_args!($($text)*))) };
}
