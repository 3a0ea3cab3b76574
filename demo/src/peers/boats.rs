//! Boats and gates as messages of a real MQTT broker, where mosquitto is installed.

use std::{
    fs,
    net::TcpListener,
    path::Path,
    process::{Child, Command, Stdio},
    thread,
    time::Duration,
};

use super::{now, swing};

const LOCKS: [&str; 3] = ["osier", "marl", "quill"];
const EVERY: Duration = Duration::from_secs(5);

/// Runs a broker until standard input is closed: by its owner, or because the owner was killed.
const UNTIL_CLOSED: &str = "mosquitto -c \"$0\" & cat > /dev/null; kill $!";

/// A broker, which ends with the demo.
pub struct Broker {
    shell: Child,
    /// Its port.
    pub port: u16,
}

impl Drop for Broker {
    fn drop(&mut self) {
        drop(self.shell.stdin.take());
        // It may have ended already.
        let _ = self.shell.wait();
    }
}

/// Starts a broker with its files in a folder, and publishes; `None` if there is no broker on this machine.
pub fn start(folder: &Path) -> Option<Broker> {
    let is_there =
        |program: &str| Command::new(program).arg("--help").stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok();
    if !is_there("mosquitto") || !is_there("mosquitto_pub") {
        return None;
    }
    let port = TcpListener::bind("127.0.0.1:0").ok()?.local_addr().ok()?.port();
    let file = folder.join("broker.conf");
    fs::write(&file, format!("listener {port} 127.0.0.1\nallow_anonymous true\n")).ok()?;
    let mut command = Command::new("sh");
    command.args(["-c", UNTIL_CLOSED]).arg(&file).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
    let shell = command.spawn().ok()?;
    thread::spawn(move || {
        loop {
            thread::sleep(EVERY);
            for (number, lock) in LOCKS.iter().enumerate() {
                let phase = number as f64 / 3.0;
                let boats = swing(6.0, 5.0, 1_800.0, phase).round();
                let gate = if (now() / 300.0 + phase).fract() < 0.4 { "open" } else { "shut" };
                // A message that the broker does not take is not repeated.
                let _ = publish(port, &format!("velmar/{lock}/boats_waiting"), &boats.to_string());
                let _ = publish(port, &format!("velmar/{lock}/gate_report"), gate);
            }
        }
    });
    Some(Broker { shell, port })
}

fn publish(port: u16, topic: &str, message: &str) -> std::io::Result<()> {
    let port = port.to_string();
    let mut command = Command::new("mosquitto_pub");
    command.args(["-h", "127.0.0.1", "-p", &port, "-q", "1", "-t", topic, "-m", message]);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status().map(|_| ())
}
