//! Real peers of sources, each on a free port in a folder of its own: a broker, databases, devices.

#![allow(dead_code, reason = "every test file uses a part of this")]

use std::{
    fs,
    io::{BufRead, BufReader, Lines, Write},
    net::{TcpListener, TcpStream},
    path::{Path, PathBuf},
    process::{Child, ChildStdout, Command, Stdio},
    thread,
    time::{Duration, Instant},
};

use tempfile::TempDir;

const MAX_WAIT: Duration = Duration::from_secs(60);

/// Waits until something is so.
pub fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < MAX_WAIT, "{what}");
        thread::sleep(Duration::from_millis(50));
    }
}

/// A port that nobody listens on.
pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

fn listens(port: u16) -> bool {
    TcpStream::connect(("127.0.0.1", port)).is_ok()
}

/// A process that is ended when it is dropped.
pub struct Peer {
    child: Child,
    pub port: u16,
    folder: TempDir,
}

impl Drop for Peer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn spawn(command: &mut Command, folder: &Path) -> Child {
    let log = fs::File::create(folder.join("log")).unwrap();
    let errors = log.try_clone().unwrap();
    command.stdin(Stdio::null()).stdout(log).stderr(errors).spawn().unwrap_or_else(|error| panic!("{command:?}: {error}"))
}

fn done(command: &mut Command) {
    let output = command.stdin(Stdio::null()).output().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

fn is_root() -> bool {
    fs::metadata("/proc/self").map(|about| std::os::unix::fs::MetadataExt::uid(&about) == 0).unwrap_or(false)
}

/// Makes `server.pem` and `server.key` for 127.0.0.1, and `other.pem` of somebody else, in a folder.
fn certificates(folder: &Path) {
    for (file, name) in [("server", "127.0.0.1"), ("other", "other.example")] {
        let path = |ending: &str| folder.join(format!("{file}.{ending}"));
        let mut command = Command::new(env!("CARGO_BIN_EXE_fenetre"));
        command.args(["tls", "self-signed", "--name", name, "--days", "30", "--certificate"]).arg(path("pem")).arg("--key").arg(path("key"));
        done(&mut command);
    }
}

/// A broker: mosquitto.
pub struct Broker(Peer);

impl Broker {
    /// Starts one that keeps its sessions, with further lines of configuration. `DIR/server.pem` and `.key` are a certificate; `DIR/users` has the user `clerk`, whose password is `river`.
    pub fn start(more: &str) -> Self {
        let (folder, port) = (tempfile::tempdir().unwrap(), free_port());
        let path = folder.path().display();
        let users = if more.contains("password_file") { "" } else { "allow_anonymous true\n" };
        let user = if is_root() { "user root\n" } else { "" };
        // A limit of 0 is none: what is lost is the fault of the source.
        let text = format!(
            "{user}listener {port} 127.0.0.1\npersistence true\npersistence_location {path}/\nautosave_interval 1\nautosave_on_changes true\n\
             max_queued_messages 0\nmax_inflight_messages 0\n{users}{}\n",
            more.replace("DIR", &path.to_string())
        );
        fs::write(folder.path().join("broker.conf"), text).unwrap();
        certificates(folder.path());
        done(Command::new("mosquitto_passwd").args(["-b", "-c"]).arg(folder.path().join("users")).args(["clerk", "river"]));
        let child = Self::spawn(folder.path(), port);
        Self(Peer { child, port, folder })
    }

    fn spawn(folder: &Path, port: u16) -> Child {
        let child = spawn(Command::new("mosquitto").arg("-c").arg(folder.join("broker.conf")), folder);
        until("mosquitto listens", || listens(port));
        child
    }

    pub fn url(&self) -> String {
        format!("mqtt://127.0.0.1:{}", self.0.port)
    }

    pub fn folder(&self) -> &Path {
        self.0.folder.path()
    }

    /// Ends it, and starts it again on the same port.
    pub fn restart(&mut self, signal: &str, away: Duration) {
        done(Command::new("kill").args([signal, &self.0.child.id().to_string()]));
        self.0.child.wait().unwrap();
        thread::sleep(away);
        self.0.child = Self::spawn(self.0.folder.path(), self.0.port);
    }

    /// Subscribes to topics, and returns when the subscription is there.
    pub fn subscribe(&self, filter: &str) -> Subscriber {
        let mut child = Command::new("stdbuf")
            .args(["-oL", "mosquitto_sub", "-d", "-h", "127.0.0.1", "-p", &self.0.port.to_string(), "-v", "-t", filter])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        while !lines.next().unwrap().unwrap().starts_with("Subscribed") {}
        Subscriber { child, lines }
    }

    /// Publishes messages to a topic.
    pub fn publish(&self, topic: &str, qos: u8, messages: &[String], more: &[&str]) {
        let mut child = Command::new("mosquitto_pub")
            .args(["-h", "127.0.0.1", "-p", &self.0.port.to_string(), "-V", "5", "-q", &qos.to_string(), "-t", topic, "-l"])
            .args(more)
            .stdin(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all((messages.join("\n") + "\n").as_bytes()).unwrap();
        assert!(child.wait().unwrap().success());
    }
}

/// A client that prints messages with their topics.
pub struct Subscriber {
    child: Child,
    lines: Lines<BufReader<ChildStdout>>,
}

impl Subscriber {
    /// The next lines of messages.
    pub fn lines(mut self, count: usize) -> String {
        let is_message = |line: &String| !line.starts_with("Client ");
        let found: String = self.lines.by_ref().map(Result::unwrap).filter(is_message).take(count).flat_map(|line| [line, "\n".to_owned()]).collect();
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        found
    }
}

/// PostgreSQL.
pub struct Postgres(Peer);

impl Postgres {
    /// Starts one with the user `clerk`, whose password is `river`, and the database `velmar`.
    pub fn start() -> Self {
        let (folder, port) = (tempfile::tempdir().unwrap(), free_port());
        let programs = postgres_programs();
        let data = folder.path().join("data");
        certificates(folder.path());
        if is_root() {
            // It does not run as root.
            done(Command::new("chown").arg("-R").arg("postgres").arg(folder.path()));
        }
        let own = |program: &str| {
            let program = programs.join(program);
            if !is_root() {
                return Command::new(program);
            }
            let mut command = Command::new("runuser");
            command.args(["-u", "postgres", "--"]).arg(program).current_dir("/");
            command
        };
        fs::write(folder.path().join("password"), "river\n").unwrap();
        done(own("initdb").args(["-A", "scram-sha-256", "-U", "clerk", "-N", "--pwfile"]).arg(folder.path().join("password")).arg("-D").arg(&data));
        let path = folder.path().display();
        let files = [format!("ssl_cert_file={path}/server.pem"), format!("ssl_key_file={path}/server.key")];
        let mut server = own("postgres");
        server.args(["-p", &port.to_string(), "-c", "fsync=off", "-c", "ssl=on", "-c", &files[0], "-c", &files[1], "-h", "127.0.0.1"]);
        server.arg("-k").arg(folder.path()).arg("-D").arg(&data);
        let child = spawn(&mut server, folder.path());
        let peer = Self(Peer { child, port, folder });
        until("PostgreSQL answers", || peer.psql("postgres", "SELECT 1").is_ok());
        peer.psql("postgres", "CREATE DATABASE velmar").unwrap();
        peer
    }

    pub fn folder(&self) -> &Path {
        self.0.folder.path()
    }

    pub fn url(&self) -> String {
        format!("postgresql://127.0.0.1:{}/velmar", self.0.port)
    }

    fn psql(&self, database: &str, sql: &str) -> Result<String, String> {
        let port = self.0.port.to_string();
        let mut command = Command::new("psql");
        command.args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-h", "127.0.0.1", "-p", &port, "-U", "clerk", "-d", database, "-c", sql]);
        let output = command.env("PGPASSWORD", "river").stdin(Stdio::null()).output().unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        if output.status.success() { Ok(text(&output.stdout)) } else { Err(text(&output.stderr)) }
    }

    /// Runs statements, and returns what they print.
    pub fn run(&self, sql: &str) -> String {
        self.psql("velmar", sql).unwrap()
    }

    /// Ends all other connections, as a restart does.
    pub fn drop_connections(&self) {
        self.run("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'fenetre'");
    }
}

/// An S3-compatible object store, which keeps its objects in memory.
pub struct ObjectStore(Peer);

impl ObjectStore {
    /// Starts one without buckets.
    pub fn start() -> Self {
        let (folder, port) = (tempfile::tempdir().unwrap(), free_port());
        let python = std::env::var("FENETRE_PEERS").unwrap_or_else(|_| "python3".to_owned());
        let child = spawn(Command::new(python).args(["-m", "moto.server", "-H", "127.0.0.1", "-p", &port.to_string()]), folder.path());
        until("the object store listens", || listens(port));
        Self(Peer { child, port, folder })
    }

    pub fn url(&self) -> String {
        format!("http://127.0.0.1:{}", self.0.port)
    }

    pub fn create(&self, bucket: &str) {
        assert!(ureq::put(format!("{}/{bucket}", self.url())).send_empty().unwrap().status().is_success());
    }

    /// Names of the objects of a bucket, in order.
    pub fn names(&self, bucket: &str) -> Vec<String> {
        let list = ureq::get(format!("{}/{bucket}?list-type=2", self.url())).call().unwrap().body_mut().read_to_string().unwrap();
        list.split("<Key>").skip(1).map(|rest| rest.split("</Key>").next().unwrap().to_owned()).collect()
    }

    pub fn object(&self, bucket: &str, name: &str) -> Vec<u8> {
        let python = std::env::var("FENETRE_PEERS").unwrap_or_else(|_| "python3".to_owned());
        let program = "import sys, boto3; url, bucket, name = sys.argv[1:]; \
             store = boto3.client('s3', endpoint_url=url, region_name='us-east-1', aws_access_key_id='clerk', aws_secret_access_key='river'); \
             sys.stdout.buffer.write(store.get_object(Bucket=bucket, Key=name)['Body'].read())";
        let output = Command::new(python).args(["-c", program, &self.url(), bucket, name]).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        output.stdout
    }
}

/// Where the programs of the server are: Debian keeps them away from the search path.
fn postgres_programs() -> PathBuf {
    let versions = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    versions.map(|version| version.path().join("bin")).find(|path| path.join("initdb").exists()).expect("PostgreSQL is installed")
}

impl Drop for Postgres {
    fn drop(&mut self) {
        // The process under `runuser` must end, too.
        let pid = fs::read_to_string(self.0.folder.path().join("data/postmaster.pid")).unwrap_or_default();
        if let Some(pid) = pid.lines().next() {
            let _ = Command::new("kill").args(["-QUIT", pid]).status();
        }
    }
}

/// MariaDB.
pub struct MariaDb(Peer);

impl MariaDb {
    /// Starts one with the user `clerk`, whose password is `river`, and the database `velmar`.
    pub fn start() -> Self {
        let (folder, port) = (tempfile::tempdir().unwrap(), free_port());
        let data = folder.path().join("data");
        let mut install = Command::new("mariadb-install-db");
        install.args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db"]).arg(format!("--datadir={}", data.display()));
        let mut server = Command::new("mariadbd");
        server.args(["--no-defaults", "--skip-log-bin", "--bind-address=127.0.0.1", "--innodb-flush-log-at-trx-commit=0"]);
        server.arg(format!("--datadir={}", data.display())).arg(format!("--port={port}"));
        server.arg(format!("--socket={}/sock", folder.path().display())).arg(format!("--pid-file={}/pid", folder.path().display()));
        certificates(folder.path());
        server.arg(format!("--ssl-cert={}/server.pem", folder.path().display())).arg(format!("--ssl-key={}/server.key", folder.path().display()));
        if is_root() {
            done(Command::new("chown").arg("-R").arg("mysql").arg(folder.path()));
            install.arg("--user=mysql");
            server.arg("--user=mysql");
        }
        done(&mut install);
        let child = spawn(&mut server, folder.path());
        let peer = Self(Peer { child, port, folder });
        until("MariaDB answers", || peer.client("SELECT 1").is_ok());
        peer.client("CREATE DATABASE velmar; CREATE USER clerk IDENTIFIED BY 'river'; GRANT SELECT ON velmar.* TO clerk").unwrap();
        peer
    }

    pub fn folder(&self) -> &Path {
        self.0.folder.path()
    }

    pub fn url(&self) -> String {
        format!("mysql://127.0.0.1:{}/velmar", self.0.port)
    }

    fn client(&self, sql: &str) -> Result<String, String> {
        let socket = format!("--socket={}/sock", self.0.folder.path().display());
        let output = Command::new("mariadb").args(["--no-defaults", &socket, "-u", "root", "-N", "-e", sql]).stdin(Stdio::null()).output().unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        if output.status.success() { Ok(text(&output.stdout)) } else { Err(text(&output.stderr)) }
    }

    /// Runs statements, and returns what they print.
    pub fn run(&self, sql: &str) -> String {
        self.client(&format!("USE velmar; {sql}")).unwrap()
    }
}

/// A peer in Python, of another maker.
pub struct Script(Peer);

impl Script {
    /// Starts `e2e/peers/NAME.py` with a port.
    pub fn start(name: &str) -> Self {
        Self::on(name, free_port())
    }

    /// Likewise, on this port.
    pub fn on(name: &str, port: u16) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let python = std::env::var("FENETRE_PEERS").unwrap_or_else(|_| "python3".to_owned());
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../e2e/peers/").to_owned() + name + ".py";
        let errors = fs::File::create(folder.path().join("log")).unwrap();
        let mut child = Command::new(&python).args([&script, &port.to_string()]).stdout(Stdio::piped()).stderr(errors).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let log = || fs::read_to_string(folder.path().join("log")).unwrap();
        assert_eq!(line, "ready\n", "{python} {script} (its packages are in e2e/peers/requirements.txt; scripts/test installs them): {}", log());
        Self(Peer { child, port, folder })
    }

    pub fn port(&self) -> u16 {
        self.0.port
    }
}
