//! The real service on a loopback port, and ways to call it: the real command line, and HTTP.

#![allow(dead_code, reason = "every test file uses a part of this")]

use std::{
    io::{BufRead, BufReader, Write},
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::atomic::{AtomicBool, Ordering},
    thread,
    time::{Duration, Instant},
};

#[path = "http.rs"]
mod http;

#[allow(unused_imports, reason = "every test file uses a part of this")]
pub use http::{Answer, Api, agent, an_hour_of_levels, problems};

const MAX_WAIT: Duration = Duration::from_secs(30);
/// No command of a test takes longer, on any machine: one that waits for something that never comes is killed.
const MAX_COMMAND: Duration = Duration::from_secs(240);

/// A running service, killed when it is dropped.
pub struct Service {
    child: Child,
    pub url: String,
    /// What it printed before it was ready.
    pub message: String,
}

impl Service {
    /// Starts `fenetre serve` on a store, on a port of its own.
    pub fn start(store: &Path) -> Self {
        Self::start_with(&["serve", "--listen", "127.0.0.1:0", "--store", &store.display().to_string()])
    }

    /// Starts the binary with these arguments and waits until it says where it listens.
    pub fn start_with(args: &[&str]) -> Self {
        Self::start_command(fenetre().args(args))
    }

    /// Starts a command that becomes the service.
    pub fn start_command(command: &mut Command) -> Self {
        let mut child = command.stderr(Stdio::piped()).stdout(Stdio::null()).spawn().expect("the binary starts");
        let mut lines = BufReader::new(child.stderr.take().expect("standard error is piped")).lines();
        let mut message = String::new();
        let url = loop {
            let Some(Ok(line)) = lines.next() else { panic!("the service ended before it was ready:\n{message}") };
            let schemes = ["http://127.0.0.1:", "https://127.0.0.1:"];
            if let Some(at) = schemes.iter().find_map(|scheme| line.find(scheme)) {
                break line[at..].split_whitespace().next().expect("a URL").to_owned();
            }
            message += &line;
            message.push('\n');
        };
        // A full pipe without a reader blocks its writer.
        thread::spawn(move || lines.for_each(drop));
        Self { child, url, message }
    }

    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// SIGKILL, and wait for the end.
    pub fn kill(mut self) {
        self.child.kill().expect("it runs");
        self.child.wait().expect("it ends");
    }

    /// Sends a signal and returns the exit code.
    pub fn stop(mut self, signal: &str) -> Option<i32> {
        Command::new("kill").args([signal, &self.pid().to_string()]).status().expect("kill runs");
        let start = Instant::now();
        while start.elapsed() < MAX_WAIT {
            if let Some(status) = self.child.try_wait().expect("it can be waited for") {
                return status.code();
            }
            thread::sleep(Duration::from_millis(10));
        }
        panic!("it did not stop in time");
    }

    /// Runs a client command against this service.
    pub fn run(&self, args: &[&str]) -> Ran {
        run_with(args, &[("FENETRE_URL", &self.url)], b"")
    }

    /// Likewise, with bytes on standard input.
    pub fn run_with_input(&self, args: &[&str], input: &[u8]) -> Ran {
        run_with(args, &[("FENETRE_URL", &self.url)], input)
    }
}

impl Api for Service {
    fn url(&self) -> &str {
        &self.url
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The binary under test.
pub fn fenetre() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_fenetre"));
    for variable in ["FENETRE_URL", "FENETRE_DATASET", "FENETRE_LOG", "FENETRE_TOKEN", "FENETRE_PROFILE"] {
        command.env_remove(variable);
    }
    // Nobody's profiles are read or written.
    command.env("COLUMNS", "100").env("XDG_CONFIG_HOME", "/nonexistent");
    // What the service stores itself would appear in lists, at any moment.
    command.env("FENETRE_OWN", "none");
    command
}

/// Runs the binary to its end.
pub fn run(args: &[&str]) -> Ran {
    run_with(args, &[], b"")
}

/// The same, with variables of the environment and bytes on standard input.
pub fn run_with(args: &[&str], variables: &[(&str, &str)], input: &[u8]) -> Ran {
    let mut child = fenetre()
        .args(args)
        .envs(variables.iter().copied())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the binary starts");
    // A command that does not read its input may have ended already.
    let _ = child.stdin.take().expect("standard input is piped").write_all(input);
    let pid = child.id();
    let (ended, has_ended) = std::sync::mpsc::channel();
    thread::spawn(move || ended.send(child.wait_with_output()));
    let Ok(output) = has_ended.recv_timeout(MAX_COMMAND) else {
        let _ = Command::new("kill").args(["-KILL", &pid.to_string()]).status();
        panic!("`fenetre {}` did not end within {MAX_COMMAND:?}", args.join(" "));
    };
    Ran(output.expect("it can be waited for"))
}

/// Ends the threads of a test when it is dropped, also if the test fails: else a scope would wait for them forever.
pub struct Ends<'t>(pub &'t AtomicBool);

impl Drop for Ends<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

/// Output and exit code of a command.
pub struct Ran(Output);

impl Ran {
    pub fn code(&self) -> i32 {
        self.0.status.code().expect("it was not killed")
    }

    pub fn out(&self) -> String {
        String::from_utf8_lossy(&self.0.stdout).into_owned()
    }

    pub fn err(&self) -> String {
        String::from_utf8_lossy(&self.0.stderr).into_owned()
    }

    /// Everything, for a snapshot.
    pub fn all(&self) -> String {
        format!("exit code {}\n--- standard output\n{}--- standard error\n{}", self.code(), self.out(), self.err())
    }
}

/// A file of these bytes in a folder.
pub fn file(folder: &Path, name: &str, bytes: impl AsRef<[u8]>) -> String {
    let path: PathBuf = folder.join(name);
    std::fs::write(&path, bytes).expect("the folder can be written");
    path.display().to_string()
}

/// Hides what changes from run to run.
pub fn settled(work: impl FnOnce()) {
    let mut settings = insta::Settings::clone_current();
    settings.set_snapshot_path("snapshots");
    settings.set_prepend_module_to_snapshot(false);
    settings.add_filter(r"in \d[\d.]* k?B of blocks", "in N B of blocks");
    settings.add_filter(r"http://127\.0\.0\.1:\d+", "http://127.0.0.1:PORT");
    settings.add_filter(r"127\.0\.0\.1:\d{4,5}", "127.0.0.1:PORT");
    settings.add_filter(r"/[^\s:]*/\.tmp\w+", "DIR");
    settings.add_filter(r"in \d+\.\d ms", "in N ms");
    settings.add_filter(r"\d+ d ago", "N d ago");
    settings.add_filter(r"process \d+", "process PID");
    settings.add_filter(r"\d[\d.]* (kB|MB)", "N kB");
    settings.bind(work);
}

/// 20,000 points of 2026-05-01 as JSON Lines, one per second, in turn of four series.
pub fn seconds_of_levels() -> String {
    let line = |second: u32| {
        let (hour, minute, rest) = (second / 3_600, second / 60 % 60, second % 60);
        let lock = second % 4;
        format!(
            "{{\"metric\":\"level\",\"tags\":{{\"lock\":\"l{lock}\"}},\"time\":\"2026-05-01T{hour:02}:{minute:02}:{rest:02}Z\",\"value\":{second}}}\n"
        )
    };
    (0..20_000).map(line).collect()
}

/// A query over these points that takes seconds: windows of an hour, one every ten seconds, again and again.
pub fn long_query() -> String {
    let shows: String = (0..200).map(|least| format!("show distinct of level where value > {least} overall ")).collect();
    serde_json::json!({ "query": format!("{shows} over 2026-05-01T00:00 to 2026-05-01T06:00 per 1h stepping 10s") }).to_string()
}
