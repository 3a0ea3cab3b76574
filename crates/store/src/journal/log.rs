//! SQLite's write-ahead log as a file: tells a torn end from damage in the middle, and makes the frames after the damage readable.
//!
//! SQLite reads a log up to the first frame with a wrong checksum. After a crash that is right: at most one commit was in progress, and it was not acknowledged.
//! If more commits follow, the frame was damaged later, and the commits after it were acknowledged. Each checksum covers all frames before it, so the checksums
//! are recomputed to let SQLite read on. Batches have checksums of their own, which find the damaged one.
//!
//! The format is SQLite's own: <https://www.sqlite.org/fileformat2.html#the_write_ahead_log>.

use std::{
    fs::{self, File},
    io::{self, BufReader, Read, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
};

use crate::disk::files::companion;

const HEADER: usize = 32;
const FRAME_HEADER: usize = 24;
/// The lowest bit is set if checksums read words in big-endian order.
const MAGIC: u32 = 0x377f_0682;
/// Bytes of the largest page.
const MAX_PAGE: u32 = 65_536;

/// A checksum over words, eight bytes at a time, going on from another.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Sum(u32, u32);

impl Sum {
    fn over(mut self, bytes: &[u8], is_big_endian: bool) -> Self {
        let word = |bytes: &[u8]| {
            // Chunks of eight are cut into halves.
            let bytes: [u8; 4] = bytes.try_into().unwrap_or_default();
            if is_big_endian { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) }
        };
        for pair in bytes.chunks_exact(8) {
            self.0 = self.0.wrapping_add(word(&pair[..4])).wrapping_add(self.1);
            self.1 = self.1.wrapping_add(word(&pair[4..])).wrapping_add(self.0);
        }
        self
    }

    fn of(bytes: &[u8]) -> Self {
        Self(be(bytes), be(&bytes[4..]))
    }

    fn to_bytes(self) -> [u8; 8] {
        let mut bytes = [0; 8];
        bytes[..4].copy_from_slice(&self.0.to_be_bytes());
        bytes[4..].copy_from_slice(&self.1.to_be_bytes());
        bytes
    }
}

fn be(bytes: &[u8]) -> u32 {
    bytes.first_chunk().map_or(0, |bytes| u32::from_be_bytes(*bytes))
}

/// A log whose frames are read one by one.
struct Frames {
    file: BufReader<File>,
    is_big_endian: bool,
    salts: [u8; 8],
    sum: Sum,
    frame: Vec<u8>,
}

impl Frames {
    /// None where there is no log, or its header is not whole.
    fn open(path: &Path) -> io::Result<Option<Self>> {
        let file = match File::open(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            file => file?,
        };
        let mut file = BufReader::new(file);
        let mut header = [0; HEADER];
        if file.read_exact(&mut header).is_err() {
            return Ok(None);
        }
        let (magic, page) = (be(&header), be(&header[8..]));
        let is_big_endian = magic & 1 == 1;
        let sum = Sum(0, 0).over(&header[..24], is_big_endian);
        if magic & !1 != MAGIC || !page.is_power_of_two() || page > MAX_PAGE || sum != Sum::of(&header[24..]) {
            return Ok(None);
        }
        let mut salts = [0; 8];
        salts.copy_from_slice(&header[16..24]);
        Ok(Some(Self { file, is_big_endian, salts, sum, frame: vec![0; FRAME_HEADER + page as usize] }))
    }

    /// Reads the next frame; none at the end of the file.
    fn next(&mut self) -> Option<Frame> {
        self.file.read_exact(&mut self.frame).ok()?;
        let is_of_this_log = self.frame[8..16] == self.salts;
        let sum = self.sum.over(&self.frame[..8], self.is_big_endian).over(&self.frame[FRAME_HEADER..], self.is_big_endian);
        let is_sound = is_of_this_log && sum == Sum::of(&self.frame[16..24]);
        self.sum = sum;
        Some(Frame { is_sound, commits: is_of_this_log && be(&self.frame[4..]) != 0 })
    }
}

struct Frame {
    is_sound: bool,
    /// It is the last of a commit.
    commits: bool,
}

/// The first frame whose checksum is wrong although more than one commit lies from there on; none in a log that is whole, or whose end was torn off.
fn damaged_frame(path: &Path) -> io::Result<Option<usize>> {
    let Some(mut frames) = Frames::open(path)? else { return Ok(None) };
    let mut at = 0;
    while let Some(frame) = frames.next() {
        if frame.is_sound {
            at += 1;
            continue;
        }
        let mut commits = usize::from(frame.commits);
        while let Some(frame) = frames.next() {
            commits += usize::from(frame.commits);
        }
        return Ok((commits > 1).then_some(at));
    }
    Ok(None)
}

/// Where the log as it was is kept when it is mended.
pub fn damaged_copy(path: &Path) -> PathBuf {
    companion(path, ".damaged")
}

/// Makes a damaged log readable to its end, and keeps a copy of it as it was. Returns whether it was damaged.
pub fn mend(path: &Path) -> io::Result<bool> {
    let Some(damaged) = damaged_frame(path)? else { return Ok(false) };
    let made = companion(path, ".mended");
    fs::copy(path, damaged_copy(path))?;
    fs::copy(path, &made)?;
    let mut written = File::options().write(true).open(&made)?;
    let Some(mut frames) = Frames::open(path)? else { return Ok(false) };
    let length = frames.frame.len() as u64;
    let mut at = 0;
    while frames.next().is_some() {
        if at >= damaged {
            written.seek(SeekFrom::Start(HEADER as u64 + at as u64 * length + 8))?;
            written.write_all(&frames.salts)?;
            written.write_all(&frames.sum.to_bytes())?;
        }
        at += 1;
    }
    written.sync_all()?;
    fs::rename(&made, path)?;
    Ok(true)
}
