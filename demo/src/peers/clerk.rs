//! A clerk who writes each passage of boats into an SQLite table, now and then one that was forgotten.

use std::{path::Path, thread, time::Duration};

use rusqlite::{Connection, params};

use super::now;

/// Between two entries.
const EVERY: Duration = Duration::from_secs(10);
/// Entries that are there at the beginning.
const BEFORE: u32 = 60;
const LOCKS: [&str; 4] = ["brindle", "osier", "tansy", "fallow"];

/// Makes the table if it is not there, and starts writing.
///
/// # Errors
/// If the file cannot be written.
pub fn start(file: &Path) -> rusqlite::Result<()> {
    let table = Connection::open(file)?;
    table.execute_batch("CREATE TABLE IF NOT EXISTS passages (at INTEGER NOT NULL, lock TEXT NOT NULL, boats INTEGER, toll TEXT)")?;
    let count: u32 = table.query_row("SELECT count(*) FROM passages", [], |row| row.get(0))?;
    if count == 0 {
        (0..BEFORE).try_for_each(|number| enter(&table, now() as i64 - i64::from(BEFORE - number) * 60))?;
    }
    thread::spawn(move || {
        loop {
            thread::sleep(EVERY);
            let now = now() as i64;
            // Every sixth entry is five minutes late. If the file is gone, the demo has ended.
            let at = if now / 10 % 6 == 0 { now - 300 } else { now };
            if enter(&table, at).is_err() {
                return;
            }
        }
    });
    Ok(())
}

fn enter(table: &Connection, at: i64) -> rusqlite::Result<()> {
    let number = (at / 10).unsigned_abs() as usize;
    let boats = 1 + number % 5;
    // The clerk writes tolls as texts.
    table.execute(
        "INSERT INTO passages VALUES (?1, ?2, ?3, ?4)",
        params![at, LOCKS[number % LOCKS.len()], boats as i64, format!("{}.50", boats * 3)],
    )?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_have_a_time_a_lock_and_a_toll() {
        let table = Connection::open_in_memory().unwrap();
        table.execute_batch("CREATE TABLE passages (at INTEGER, lock TEXT, boats INTEGER, toll TEXT)").unwrap();
        enter(&table, 1_777_626_000).unwrap();
        let row: (i64, String, i64, String) =
            table.query_row("SELECT * FROM passages", [], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))).unwrap();
        assert_eq!(row, (1_777_626_000, "brindle".to_owned(), 1, "3.50".to_owned()));
    }
}
