//! The control room's web service, whose figures are OpenMetrics: counters that begin anew every half an hour, and a histogram of latencies.

use std::{
    io::{self, BufRead, BufReader, Write},
    net::{TcpListener, TcpStream},
    thread,
    time::Duration,
};

use super::{now, swing};

/// Seconds between two restarts.
const UPTIME: f64 = 1_800.0;
/// Longest time of reading a request.
const READING: Duration = Duration::from_secs(5);

/// Starts the web service, and returns its port.
///
/// # Errors
/// If there is no free port.
pub fn start() -> io::Result<u16> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let port = listener.local_addr()?.port();
    thread::Builder::new().name("control room".to_owned()).spawn(move || {
        for stream in listener.incoming().flatten() {
            // A caller that leaves is no fault.
            thread::spawn(move || drop(answer(stream)));
        }
    })?;
    Ok(port)
}

fn answer(mut stream: TcpStream) -> io::Result<()> {
    stream.set_read_timeout(Some(READING))?;
    let mut lines = BufReader::new(stream.try_clone()?).lines();
    while lines.next().transpose()?.is_some_and(|line| !line.is_empty()) {}
    let body = exposition();
    let kind = "application/openmetrics-text; version=1.0.0; charset=utf-8";
    write!(stream, "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len())
}

fn exposition() -> String {
    let up = now().rem_euclid(UPTIME);
    let calls = (up * 4.0).floor();
    // Shares of the calls that took at most so long.
    let buckets = [("0.01", 0.6), ("0.05", 0.9), ("0.25", 0.99), ("+Inf", 1.0)]
        .map(|(bound, share)| format!("control_call_seconds_bucket{{le=\"{bound}\"}} {}\n", (calls * share).floor()));
    format!(
        "# TYPE control_calls counter\n# HELP control_calls Calls of lock keepers and boats.\ncontrol_calls_total {calls}\n\
         # TYPE control_desks gauge\n# HELP control_desks Desks that are staffed.\ncontrol_desks {}\n\
         # TYPE control_call_seconds histogram\n# UNIT control_call_seconds seconds\n{}control_call_seconds_count {calls}\ncontrol_call_seconds_sum {}\n# EOF\n",
        swing(4.0, 2.0, 7_200.0, 0.3).round(),
        buckets.concat(),
        calls * 0.03
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_exposition_is_complete() {
        let text = exposition();
        assert!(
            text.ends_with("# EOF\n") && text.contains("control_call_seconds_bucket{le=\"+Inf\"}") && text.contains("control_calls_total"),
            "{text}"
        );
    }
}
