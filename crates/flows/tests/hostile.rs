//! Sources of every kind against peers that do not speak their protocol: each is reported in words, in time, and within memory.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{
    fs,
    io::{Read, Write},
    net::{Shutdown, TcpListener, TcpStream},
    sync::Arc,
    thread,
    time::{Duration, Instant},
};

use fenetre_core::{model::DatasetDefinition, time::Nanos};
use fenetre_flows::{
    arrivals::{Arrivals, tail::Tail},
    definition::Definition,
    intake::Intake,
    supervisor::Sources,
};
use fenetre_store::{Options, Store};

/// No attempt takes longer; the limits of connecting are 10 s.
const MAX_SECONDS: u64 = 40;
/// What all attempts together may add to the memory.
const MAX_MEGABYTES: u64 = 400;

fn now() -> Nanos {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as Nanos
}

/// How a peer behaves.
#[derive(Clone, Copy, Debug)]
enum Manner {
    /// Accepts, and says nothing.
    Silent,
    /// Sends the same byte without end.
    Endless(u8),
    /// Sends a byte from time to time.
    Trickling,
    /// Closes at once.
    Closing,
    /// Closes its own half, and reads on.
    HalfClosed,
    /// Answers as a web server.
    Web,
}

fn peer(manner: Manner) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        for stream in listener.incoming() {
            // A caller that leaves is no fault of the peer.
            thread::spawn(move || drop(behave(manner, stream.unwrap())));
        }
    });
    port
}

fn behave(manner: Manner, mut stream: TcpStream) -> std::io::Result<()> {
    let mut buffer = [0; 4_096];
    match manner {
        Manner::Silent => while stream.read(&mut buffer)? > 0 {},
        Manner::Endless(byte) => loop {
            stream.write_all(&[byte; 65_536])?;
        },
        Manner::Trickling => loop {
            stream.write_all(b"\x20")?;
            thread::sleep(Duration::from_millis(300));
        },
        Manner::Closing => {}
        Manner::HalfClosed => {
            stream.shutdown(Shutdown::Write)?;
            while stream.read(&mut buffer)? > 0 {}
        }
        Manner::Web => {
            let _ = stream.read(&mut buffer)?;
            stream.write_all(b"HTTP/1.1 400 Bad Request\r\nContent-Length: 3\r\n\r\nno\n")?;
        }
    }
    Ok(())
}

fn definition(kind: &str, port: u16, password: &str) -> String {
    let mapping = "[mapping]\ntime = { column = \"at\" }\ncolumns = [{ column = \"val\" }]\n";
    let sql = |scheme: &str| {
        format!(
            "kind = \"sql\"\ndatabase = \"{scheme}://127.0.0.1:{port}/velmar\"\nuser = \"clerk\"\npassword = {{ file = \"{password}\" }}\ntimeout = \"1s\"\ntable = \"readings\"\n{mapping}"
        )
    };
    match kind {
        "mqtt 5" => format!("kind = \"mqtt\"\nbroker = \"mqtt://127.0.0.1:{port}\"\ntopics = [\"velmar/{{metric}}\"]\n"),
        "mqtt 3.1.1" => format!("kind = \"mqtt\"\nversion = \"3.1.1\"\nbroker = \"mqtt://127.0.0.1:{port}\"\ntopics = [\"velmar/{{metric}}\"]\n"),
        "mqtt with TLS" => format!("kind = \"mqtt\"\nbroker = \"mqtts://127.0.0.1:{port}\"\ntopics = [\"velmar/{{metric}}\"]\n"),
        "modbus" => format!(
            "kind = \"modbus\"\ntimeout = \"500ms\"\ndevices = [{{ address = \"127.0.0.1:{port}\" }}]\nregisters = [{{ metric = \"level\", address = 0 }}]\n"
        ),
        "opcua" => {
            format!("kind = \"opcua\"\ntimeout = \"1s\"\nendpoint = \"opc.tcp://127.0.0.1:{port}\"\nnodes = [{{ path = \"Locks/{{metric}}\" }}]\n")
        }
        "postgresql" => sql("postgresql"),
        "postgresql with TLS" => sql("postgresql").replace("table =", "tls = true\ntable ="),
        _ => sql("mysql"),
    }
}

/// The largest resident size so far, in megabytes.
fn peak() -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmHWM")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1_024
}

#[test]
fn a_peer_that_speaks_something_else_is_reported_and_harms_nobody() {
    let folder = tempfile::tempdir().unwrap();
    let store = Arc::new(Store::open(&folder.path().join("store"), Options::default()).unwrap());
    store.definitions().put_dataset("main", &DatasetDefinition::default()).unwrap();
    let intake = Arc::new(Intake { store, arrivals: Arrivals::default(), tail: Tail::default(), max_future: Nanos::MAX / 4 });
    let sources = Sources::new(intake, now);
    let password = folder.path().join("password");
    fs::write(&password, "river\n").unwrap();
    let kinds = ["mqtt 5", "mqtt 3.1.1", "mqtt with TLS", "modbus", "opcua", "postgresql", "postgresql with TLS", "mysql"];
    let manners = [Manner::Silent, Manner::Endless(0xff), Manner::Endless(0), Manner::Trickling, Manner::Closing, Manner::HalfClosed, Manner::Web];
    let before = peak();
    let attempt = &|kind: &str, manner: Manner| {
        let port = peer(manner);
        let definition = Definition::parse(&definition(kind, port, &password.display().to_string()), "x").unwrap();
        let begun = Instant::now();
        let error = sources.attempt(&definition, 5).unwrap_err().to_string();
        assert!(begun.elapsed() < Duration::from_secs(MAX_SECONDS), "{kind} {manner:?}: {error} after {:?}", begun.elapsed());
        let error = error.split(" (").next().unwrap_or_default().to_owned();
        assert!(error.contains("127.0.0.1"), "{kind} {manner:?}: {error}");
        // What the system says of a broken connection depends on who is faster.
        let is_broken = matches!(manner, Manner::Closing | Manner::HalfClosed | Manner::Web) || error.contains("the connection failed");
        let error = if is_broken { "an error that names the peer".to_owned() } else { error };
        format!("{kind}, {manner:?}: {}", error.replace(&port.to_string(), "PORT"))
    };
    let lines: Vec<String> = thread::scope(|scope| {
        let running: Vec<_> = kinds
            .iter()
            .flat_map(|kind| manners.map(|manner| (kind, manner)))
            .map(|(kind, manner)| scope.spawn(move || attempt(kind, manner)))
            .collect();
        running.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    insta::assert_snapshot!(lines.join("\n"));
    let added = peak() - before;
    assert!(added < MAX_MEGABYTES, "{added} MB");
}
