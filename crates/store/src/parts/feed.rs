//! The feed: batches in order of arrival, for named readers; see [`crate::feed`].

use std::time::Duration;

use fenetre_core::time::Nanos;

use crate::{
    engine::Engine,
    error::StoreError,
    feed::{Arrived, Cursor, Gap, Position},
    ingest::{held, requests::Requests},
};

/// The feed of a store.
#[derive(Clone, Copy)]
pub struct Feed<'s> {
    pub(crate) engine: &'s Engine,
    pub(crate) requests: &'s Requests,
}

impl Feed<'_> {
    /// Adds a reader, whose cursor is at the end; returns the cursor of an existing reader unchanged.
    ///
    /// # Errors
    /// If the catalogue cannot be read or written.
    pub fn follow(&self, name: &str, now: Nanos) -> Result<Cursor, StoreError> {
        held::follow(self.engine, name, now)
    }

    /// The cursor of a reader.
    pub fn cursor(&self, name: &str) -> Option<Cursor> {
        self.engine.readers.cursors.lock().get(name).cloned()
    }

    /// Removes a reader. No file is held for it any longer.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn unfollow(&self, name: &str) -> Result<(), StoreError> {
        held::unfollow(self.engine, name)
    }

    /// The batches after a position, in order, with about `points` points, but at least one batch if there is any; and the position to advance to
    /// when they are handled.
    ///
    /// # Errors
    /// If a journal file cannot be read.
    pub fn read(&self, after: Position, points: usize) -> Result<(Vec<Arrived>, Position), StoreError> {
        let mut from = after;
        loop {
            let end = self.engine.ring.end();
            let found = match self.engine.ring.after(from, points) {
                Some(recent) => recent,
                None if from.generation == end.generation => {
                    let read = self.requests.read_journal(from, points)?;
                    // The committer has begun another file: this one is closed, and read below.
                    let Some(read) = read else { continue };
                    read
                }
                None => held::read(self.engine, from, points)?,
            };
            if let Some(last) = found.last() {
                let next = last.position;
                return Ok((found, next));
            }
            if from.generation >= end.generation {
                return Ok((Vec::new(), from.max(end)));
            }
            // The file has no more batches.
            from = Position { generation: from.generation + 1, batch: 0 };
        }
    }

    /// Records that a reader has handled all batches up to a position.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn advance(&self, name: &str, to: Position, now: Nanos) -> Result<(), StoreError> {
        held::change(self.engine, name, now, |cursor| cursor.position = cursor.position.max(to))
    }

    /// Adds a gap, which the reader will read from partitions.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn add_gap(&self, name: &str, gap: Gap, now: Nanos) -> Result<(), StoreError> {
        held::change(self.engine, name, now, |cursor| cursor.add(gap))
    }

    /// Records that a reader has handled all batches up to a position, except for these time ranges, which it will read from partitions.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn advance_with_gaps(&self, name: &str, to: Position, gaps: &[Gap], now: Nanos) -> Result<(), StoreError> {
        held::change(self.engine, name, now, |cursor| {
            gaps.iter().for_each(|gap| cursor.add(*gap));
            cursor.position = cursor.position.max(to);
        })
    }

    /// The part of a gap to read next, which is at most `most` nanoseconds long and before an instant. It is the same until it is finished.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn take_gap(&self, name: &str, most: Nanos, before: Nanos, now: Nanos) -> Result<Option<Gap>, StoreError> {
        let mut taken = None;
        held::change(self.engine, name, now, |cursor| taken = cursor.take(most, before))?;
        Ok(taken)
    }

    /// Records that a reader has handled the part of a gap that was under way.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn finish_gap(&self, name: &str, now: Nanos) -> Result<(), StoreError> {
        held::change(self.engine, name, now, |cursor| cursor.under_way = None)
    }

    /// How many points there are after a position; about, if some of them are no longer in memory.
    ///
    /// # Errors
    /// If a journal file cannot be read.
    pub fn points_after(&self, position: Position) -> Result<u64, StoreError> {
        held::points_after(self.engine, position)
    }

    /// The position after the latest batch.
    pub fn end(&self) -> Position {
        self.engine.ring.end()
    }

    /// Waits until there is a batch after a position, at most for `most`.
    pub fn wait(&self, after: Position, most: Duration) {
        self.engine.ring.wait(after, most);
    }

    /// Size of the held journal files, in bytes.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn held_bytes(&self) -> Result<u64, StoreError> {
        held::bytes(self.engine)
    }
}
