//! MySQL and MariaDB.

use std::time::Duration;

use fenetre_core::time::{Nanos, SECOND};
use fenetre_formats::mapping::Cell;
use mysql_async::{ClientIdentity, Conn, Error, Opts, OptsBuilder, Row, SslOpts, Value, consts::ColumnType, prelude::Queryable};
use tokio::{runtime::Runtime, time::timeout};

use super::{Database, EachRow, statement::TimeKind};
use crate::{
    database::{CONNECTING, GRACE, Login},
    error::FlowError,
    runtime::{Stop, unless_stopped},
};

/// Largest packet that is read, in bytes.
const MAX_PACKET: usize = 64 << 20;

/// A connection.
pub struct Mysql {
    runtime: Runtime,
    conn: Option<Conn>,
    timeout: Duration,
    name: String,
}

impl Mysql {
    /// Connects, and begins a transaction that only reads.
    ///
    /// # Errors
    /// If the server does not let it.
    pub fn connect(runtime: Runtime, login: &Login<'_>) -> Result<Self, FlowError> {
        let mut opts = OptsBuilder::default()
            .ip_or_hostname(login.address.host.clone())
            .tcp_port(login.address.port.unwrap_or(3_306))
            .db_name(Some(login.address.path.clone()))
            .user(Some(login.user))
            .pass(login.password.clone())
            .prefer_socket(false)
            .max_allowed_packet(Some(MAX_PACKET))
            .init(vec!["SET time_zone = '+00:00'", "START TRANSACTION READ ONLY"]);
        if login.tls {
            let mut tls = SslOpts::default().with_client_identity(None::<ClientIdentity>);
            if let Some(ca) = login.ca {
                tls = tls.with_disable_built_in_roots(true).with_root_certs(vec![ca.clone().into()]);
            }
            opts = opts.ssl_opts(Some(tls));
        }
        let connecting = async {
            let mut conn = Conn::new(Opts::from(opts)).await.map_err(|error| login.fault(&describe(&error)))?;
            // MariaDB and MySQL call it by different names; only one of them is known to each.
            let seconds = login.timeout.as_secs().max(1);
            if conn.query_drop(format!("SET max_statement_time = {seconds}")).await.is_err() {
                let _ = conn.query_drop(format!("SET max_execution_time = {}", seconds * 1_000)).await;
            }
            Ok::<_, FlowError>(conn)
        };
        let connected = runtime.block_on(unless_stopped(login.stop, async { timeout(CONNECTING, connecting).await }))?;
        let conn = connected.map_err(|_| login.silent("connect", CONNECTING))??;
        Ok(Self { runtime, conn: Some(conn), timeout: login.timeout, name: login.name.to_owned() })
    }
}

impl Database for Mysql {
    fn columns(&mut self, statement: &str, stop: Stop<'_>) -> Result<Vec<(String, TimeKind)>, FlowError> {
        let Some(conn) = &mut self.conn else { return Err(closed(&self.name)) };
        let preparing = async { timeout(self.timeout + GRACE, conn.prep(statement)).await };
        let prepared = self.runtime.block_on(unless_stopped(stop, preparing))?;
        let prepared = prepared.map_err(|_| silent(&self.name, self.timeout))?.map_err(|error| failure(&self.name, &error))?;
        let kind = |kind: ColumnType| match kind {
            ColumnType::MYSQL_TYPE_TIMESTAMP | ColumnType::MYSQL_TYPE_TIMESTAMP2 => TimeKind::Instant,
            ColumnType::MYSQL_TYPE_DATETIME | ColumnType::MYSQL_TYPE_DATETIME2 => TimeKind::Local,
            ColumnType::MYSQL_TYPE_DATE | ColumnType::MYSQL_TYPE_NEWDATE => TimeKind::Date,
            ColumnType::MYSQL_TYPE_LONG
            | ColumnType::MYSQL_TYPE_LONGLONG
            | ColumnType::MYSQL_TYPE_DOUBLE
            | ColumnType::MYSQL_TYPE_DECIMAL
            | ColumnType::MYSQL_TYPE_NEWDECIMAL => TimeKind::Number,
            ColumnType::MYSQL_TYPE_VARCHAR | ColumnType::MYSQL_TYPE_VAR_STRING | ColumnType::MYSQL_TYPE_STRING | ColumnType::MYSQL_TYPE_BLOB => {
                TimeKind::Text
            }
            _ => TimeKind::Other,
        };
        Ok(prepared.columns().iter().map(|column| (column.name_str().into_owned(), kind(column.column_type()))).collect())
    }

    fn rows(&mut self, statement: &str, _part: u32, stop: Stop<'_>, each: &mut EachRow<'_>) -> Result<(), FlowError> {
        let (name, limit) = (&self.name, self.timeout + GRACE);
        let Some(conn) = &mut self.conn else { return Err(closed(name)) };
        let reading = async {
            let rows = timeout(limit, conn.exec_iter(statement, ())).await.map_err(|_| silent(name, self.timeout))?;
            let mut rows = rows.map_err(|error| failure(name, &error))?;
            while let Some(row) = timeout(limit, rows.next()).await.map_err(|_| silent(name, self.timeout))?.map_err(|error| failure(name, &error))? {
                let cells: Vec<Cell<'_>> = (0..row.len()).map(|at| cell(&row, at)).collect();
                if !each(&cells)? {
                    break;
                }
            }
            Ok(())
        };
        let done = self.runtime.block_on(unless_stopped(stop, reading)).and_then(|done| done);
        if let Some(conn) = self.conn.take().filter(|_| done.is_ok()) {
            // Rows that were not read are dropped with the connection.
            let _ = self.runtime.block_on(async { timeout(GRACE, conn.disconnect()).await });
        }
        done
    }
}

fn cell(row: &Row, at: usize) -> Cell<'_> {
    let is_instant = || matches!(row.columns_ref()[at].column_type(), ColumnType::MYSQL_TYPE_TIMESTAMP | ColumnType::MYSQL_TYPE_TIMESTAMP2);
    match row.as_ref(at) {
        None | Some(Value::NULL) => Cell::Empty,
        Some(Value::Bytes(bytes)) => std::str::from_utf8(bytes).map_or(Cell::Unusable("not UTF-8"), |text| Cell::Text(text.trim())),
        Some(Value::Int(integer)) => Cell::Integer((*integer).into()),
        Some(Value::UInt(integer)) => Cell::Integer((*integer).into()),
        Some(Value::Float(number)) => Cell::Number(number.to_string().parse().unwrap_or(f64::from(*number))),
        Some(Value::Double(number)) => Cell::Number(*number),
        Some(Value::Date(year, month, day, hour, minute, second, micros)) => {
            let Some(days) = days(i64::from(*year), i64::from(*month), i64::from(*day)) else { return Cell::Unusable("a date of zeros") };
            let seconds = days * 86_400 + i64::from(*hour) * 3_600 + i64::from(*minute) * 60 + i64::from(*second);
            let wall = seconds.checked_mul(SECOND).and_then(|nanos| nanos.checked_add(Nanos::from(*micros) * 1_000));
            wall.map_or(Cell::Unusable("out of range"), |wall| if is_instant() { Cell::Time(wall) } else { Cell::LocalTime(wall) })
        }
        Some(Value::Time(..)) => Cell::Unusable("a duration"),
    }
}

/// Days since 1970-01-01 of a date (Howard Hinnant, "chrono-compatible low-level date algorithms"). `None` for a date of zeros.
fn days(year: i64, month: i64, day: i64) -> Option<i64> {
    if !(1..=12).contains(&month) || !(1..=31).contains(&day) {
        return None;
    }
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let of_era = year.rem_euclid(400);
    let of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
    Some(era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468)
}

fn failure(name: &str, error: &Error) -> FlowError {
    FlowError::Peer(format!("{name}: {}", describe(error)))
}

fn silent(name: &str, limit: Duration) -> FlowError {
    FlowError::Silent(format!("{name}: did not answer within {} s (`timeout`)", limit.as_secs()))
}

fn closed(name: &str) -> FlowError {
    FlowError::Peer(format!("{name}: the connection is closed"))
}

fn describe(error: &Error) -> String {
    match error {
        Error::Server(error) => {
            let remedy = match error.code {
                1_044 | 1_045 | 1_698 => ": check `user` and `password`",
                1_142 => ": grant SELECT to the user",
                1_146 => ": check `table`",
                1_054 => ": check the names of columns in `mapping` and `where`",
                1_969 | 3_024 => ": raise `timeout`, or index the column of the time",
                1_792 => ": a source only reads",
                _ => "",
            };
            format!("{}{remedy}", error.message)
        }
        Error::Io(mysql_async::IoError::Io(error)) if error.kind() == std::io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
        Error::Io(error) => format!("the connection failed: {error}"),
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_are_counted_from_1970() {
        assert_eq!(days(1970, 1, 1), Some(0));
        assert_eq!(days(2000, 3, 1), Some(11_017));
        assert_eq!(days(1969, 12, 31), Some(-1));
        assert_eq!(days(2024, 2, 29), Some(19_782));
        assert_eq!((days(0, 0, 0), days(2024, 13, 1)), (None, None));
    }
}
