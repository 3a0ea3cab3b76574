//! The feed: batches in the order in which they came, for readers with a name and a cursor; see [`crate::feed`].

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
    /// Begins to read at the end, or continues at the cursor of that name.
    ///
    /// # Errors
    /// If the catalogue cannot be read or written.
    pub fn follow(&self, name: &str, now: Nanos) -> Result<Cursor, StoreError> {
        held::follow(self.engine, name, now)
    }

    /// The cursor of a reader.
    ///
    /// # Errors
    /// If it cannot be read.
    pub fn cursor(&self, name: &str) -> Result<Option<Cursor>, StoreError> {
        Ok(self.engine.definitions.document::<Cursor>(name)?.map(|kept| kept.body))
    }

    /// Ends reading: nothing is held for that name any more.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn unfollow(&self, name: &str) -> Result<(), StoreError> {
        held::unfollow(self.engine, name)
    }

    /// The batches after a place, in order: about as many points as are wanted, at least one batch if there is any; and the place to note once
    /// they are handled.
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
                    // A file that was exchanged meanwhile is read as any other.
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
            // That file has been read to its end.
            from = Position { generation: from.generation + 1, batch: 0 };
        }
    }

    /// Notes that a reader has handled everything up to a place.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn advance(&self, name: &str, to: Position, now: Nanos) -> Result<(), StoreError> {
        held::change(self.engine, name, now, |cursor| cursor.position = cursor.position.max(to))
    }

    /// Notes that a reader has handled a gap.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn fill(&self, name: &str, gap: Gap, now: Nanos) -> Result<(), StoreError> {
        held::change(self.engine, name, now, |cursor| cursor.gaps.retain(|other| *other != gap))
    }

    /// Adds a gap, so that a time range is sent again.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn reopen(&self, name: &str, gap: Gap, now: Nanos) -> Result<(), StoreError> {
        held::change(self.engine, name, now, |cursor| cursor.add(gap))
    }

    /// The place after the latest batch.
    pub fn end(&self) -> Position {
        self.engine.ring.end()
    }

    /// Waits until there is something after a place, or a time has passed.
    pub fn wait(&self, after: Position, most: Duration) {
        self.engine.ring.wait(after, most);
    }

    /// Bytes of journal files that are held for readers.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn held_bytes(&self) -> Result<u64, StoreError> {
        held::bytes(self.engine)
    }
}
