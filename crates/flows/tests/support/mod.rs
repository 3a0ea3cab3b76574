//! A destination of sinks, and stores with sinks.

#![allow(dead_code, reason = "every test file uses a part of this")]

use std::{
    collections::BTreeMap,
    fs,
    io::{BufRead, BufReader, Read, Write},
    net::{TcpListener, TcpStream},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU16, AtomicU64, Ordering},
    },
    thread,
    time::{Duration, Instant},
};

use fenetre_core::{
    model::{PointRef, PointSink, ValueRef},
    time::{Nanos, SECOND, parse_rfc3339},
};
use fenetre_flows::sinks::{definition::SinkDefinition, outgoing::OutgoingPoint, supervisor::Sinks};
use fenetre_store::{Options, Store};
use parking_lot::Mutex;
use tempfile::TempDir;

pub const START: Nanos = 1_790_000_000 * SECOND;

pub fn now() -> Nanos {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as Nanos
}

/// Points by metric, tags and time; the latest value of each.
pub type Points = BTreeMap<(String, BTreeMap<Arc<str>, Arc<str>>, Nanos), String>;

/// A destination that keeps the points that it gets, and answers with a given status.
pub struct Peer {
    pub url: String,
    pub got: Arc<Mutex<Points>>,
    /// Status of the answers; 0 to close the connection after the body.
    pub status: Arc<AtomicU16>,
    /// Points of bodies that were answered with success.
    pub taken: Arc<AtomicU64>,
    is_over: Arc<AtomicBool>,
}

impl Peer {
    pub fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let peer = Self {
            url: format!("http://{}/points", listener.local_addr().unwrap()),
            got: Arc::default(),
            status: Arc::new(AtomicU16::new(200)),
            taken: Arc::default(),
            is_over: Arc::default(),
        };
        let (got, status, taken) = (Arc::clone(&peer.got), Arc::clone(&peer.status), Arc::clone(&peer.taken));
        thread::spawn(move || {
            for stream in listener.incoming() {
                let (got, status, taken) = (Arc::clone(&got), Arc::clone(&status), Arc::clone(&taken));
                // A caller that leaves is no fault of the peer.
                thread::spawn(move || drop(serve(stream.unwrap(), &got, &status, &taken)));
            }
        });
        peer
    }
}

impl Drop for Peer {
    fn drop(&mut self) {
        self.is_over.store(true, Ordering::SeqCst);
    }
}

fn serve(stream: TcpStream, got: &Mutex<Points>, status: &AtomicU16, taken: &AtomicU64) -> std::io::Result<()> {
    let (mut reader, mut out) = (BufReader::new(stream.try_clone()?), stream);
    loop {
        let (mut length, mut line) = (0, String::new());
        while reader.read_line(&mut line)? > 2 {
            if let Some(value) = line.to_ascii_lowercase().strip_prefix("content-length:") {
                length = value.trim().parse().unwrap();
            }
            line.clear();
        }
        if line.is_empty() {
            return Ok(());
        }
        let mut body = vec![0; length];
        reader.read_exact(&mut body)?;
        let status = status.load(Ordering::SeqCst);
        if status / 100 == 2 || status == 0 {
            let points: Vec<OutgoingPoint> = body.lines().map(|line| serde_json::from_str(&line.unwrap()).unwrap()).collect();
            taken.fetch_add(points.len() as u64, Ordering::SeqCst);
            got.lock().extend(
                points
                    .into_iter()
                    .map(|point| ((point.metric.to_string(), point.tags, parse_rfc3339(&point.time).unwrap()), point.value.to_string())),
            );
        }
        if status == 0 {
            return Ok(());
        }
        let text = if status == 400 { "not today" } else { "" };
        write!(out, "HTTP/1.1 {status} X\r\nContent-Length: {}\r\n\r\n{text}", text.len())?;
    }
}

/// Points of the metrics of `main`, each as lock, second and value.
pub fn write_points(store: &Store, points: &[(u8, i64, i32)]) {
    let mut batch = store.begin("main").unwrap();
    for (lock, second, value) in points {
        let (lock, time) = (format!("lock-{lock}"), START + second * SECOND);
        let tags = [("lock", lock.as_str()), ("side", "up")];
        batch.accept(PointRef { metric: "level", tags: &tags, time, value: ValueRef::Number(f64::from(*value)) }).unwrap();
        let word = if value % 2 == 0 { "open" } else { "closed" };
        batch.accept(PointRef { metric: "gate", tags: &tags[..1], time, value: ValueRef::Word(word) }).unwrap();
    }
    store.write(batch).unwrap();
}

pub fn sinks_of(store: &Arc<Store>, path: &Path) -> Sinks {
    let sinks = Sinks::new(Arc::clone(store), path.join("aside"), now);
    sinks.start().unwrap();
    sinks
}

pub fn definition(text: &str) -> SinkDefinition {
    SinkDefinition::parse(text, "sink.toml").unwrap()
}

/// Files of a store as they are at this moment, while it works on: as after a kill.
pub fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let (path, there) = (entry.path(), to.join(entry.file_name()));
        if path.is_dir() {
            copy(&path, &there);
        } else if let Err(error) = fs::copy(&path, &there) {
            // A file that is removed during the copy was not needed.
            assert_eq!(error.kind(), std::io::ErrorKind::NotFound);
        }
    }
}

/// A copy during which the sink has noted nothing. A kill would leave its files as they were at one moment, too.
pub fn copy_of_a_moment(store: &Store, sinks: &Sinks, from: &Path, to: &Path) {
    let mark = || (store.feed().cursor("out"), sinks.aside("out").unwrap().ids("out").unwrap());
    loop {
        let before = mark();
        copy(from, to);
        if mark() == before {
            return;
        }
        fs::remove_dir_all(to).unwrap();
    }
}

pub fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(30), "{what}");
        thread::sleep(Duration::from_millis(10));
    }
}

/// A store with points, and its sinks.
pub fn store() -> (TempDir, Arc<Store>, Sinks) {
    let folder = tempfile::tempdir().unwrap();
    let store = Arc::new(Store::open(&folder.path().join("store"), Options::default()).unwrap());
    let sinks = sinks_of(&store, folder.path());
    (folder, store, sinks)
}
