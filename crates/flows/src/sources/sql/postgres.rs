//! PostgreSQL.

use std::{error::Error, time::Duration};

use fenetre_core::time::SECOND;
use fenetre_formats::mapping::Cell;
use futures_util::{TryStreamExt, pin_mut};
use tokio::{runtime::Runtime, time::timeout};
use tokio_postgres::{
    Client,
    error::SqlState,
    types::{FromSql, Type},
};

use super::{Database, EachRow, statement::TimeKind};
use crate::{
    database::{GRACE, Login, limited::Meter, postgres},
    error::FlowError,
    runtime::{Stop, unless_stopped},
};

/// Seconds from 1970 to 2000, where PostgreSQL counts from.
const EPOCH: i64 = 946_684_800;
const DAY: i64 = 86_400 * SECOND;

/// A connection.
pub struct Postgres {
    runtime: Runtime,
    client: Client,
    meter: Meter,
    timeout: Duration,
    name: String,
}

impl Postgres {
    /// Connects, and begins a transaction that only reads.
    ///
    /// # Errors
    /// If the server does not let it.
    pub fn connect(runtime: Runtime, login: &Login<'_>) -> Result<Self, FlowError> {
        let meter = Meter::default();
        let begin = format!("BEGIN READ ONLY; SET LOCAL statement_timeout = {}; SET LOCAL TIME ZONE 'UTC'", login.timeout.as_millis());
        let client = runtime.block_on(unless_stopped(login.stop, postgres::connect(login, &meter, &begin)))??;
        Ok(Self { runtime, client, meter, timeout: login.timeout, name: login.name.to_owned() })
    }

    fn failure(&self, error: &tokio_postgres::Error) -> FlowError {
        FlowError::Peer(format!("{}: {}", self.name, describe(error)))
    }

    fn silent(&self) -> FlowError {
        FlowError::Silent(format!("{}: did not answer within {} s (`timeout`)", self.name, self.timeout.as_secs()))
    }
}

impl Database for Postgres {
    fn columns(&mut self, statement: &str, stop: Stop<'_>) -> Result<Vec<(String, TimeKind)>, FlowError> {
        let preparing = async { timeout(self.timeout + GRACE, self.client.prepare(statement)).await };
        let prepared = self.runtime.block_on(unless_stopped(stop, preparing))?;
        let prepared = prepared.map_err(|_| self.silent())?.map_err(|error| self.failure(&error))?;
        let kind = |kind: &Type| match *kind {
            Type::TIMESTAMPTZ => TimeKind::Instant,
            Type::TIMESTAMP => TimeKind::Local,
            Type::DATE => TimeKind::Date,
            Type::INT4 | Type::INT8 | Type::FLOAT8 | Type::NUMERIC => TimeKind::Number,
            Type::TEXT | Type::VARCHAR | Type::BPCHAR => TimeKind::Text,
            _ => TimeKind::Other,
        };
        Ok(prepared.columns().iter().map(|column| (column.name().to_owned(), kind(column.type_()))).collect())
    }

    fn rows(&mut self, statement: &str, part: u32, stop: Stop<'_>, each: &mut EachRow<'_>) -> Result<(), FlowError> {
        let part = i32::try_from(part).unwrap_or(i32::MAX);
        let reading = async {
            // A cursor, so that the time limit of a statement holds for each part.
            let declare = format!("DECLARE fenetre NO SCROLL CURSOR FOR {statement}");
            self.client.batch_execute(&declare).await.map_err(|error| self.failure(&error))?;
            let fetch = format!("FETCH FORWARD {part} FROM fenetre");
            let fetch = self.client.prepare(&fetch).await.map_err(|error| self.failure(&error))?;
            let columns = fetch.columns().len();
            loop {
                let rows = self.client.query_raw(&fetch, std::iter::empty::<i32>());
                let rows = timeout(self.timeout + GRACE, rows).await.map_err(|_| self.silent())?.map_err(|error| self.failure(&error))?;
                pin_mut!(rows);
                let mut count = 0;
                while let Some(row) =
                    timeout(self.timeout + GRACE, rows.try_next()).await.map_err(|_| self.silent())?.map_err(|error| self.failure(&error))?
                {
                    count += 1;
                    self.meter.reset();
                    let cells = (0..columns).map(|at| row.try_get::<_, PgCell<'_>>(at)).collect::<Result<Vec<_>, _>>();
                    let cells = cells.map_err(|error| self.failure(&error))?;
                    let cells: Vec<Cell<'_>> = cells.iter().map(PgCell::cell).collect();
                    if !each(&cells)? {
                        return Ok(());
                    }
                }
                if count < part {
                    return Ok(());
                }
            }
        };
        self.runtime.block_on(unless_stopped(stop, reading))?
    }
}

/// A value as the server sent it.
enum PgCell<'r> {
    Cell(Cell<'r>),
    /// A value that had to be written as text.
    Written(String),
}

impl PgCell<'_> {
    fn cell(&self) -> Cell<'_> {
        match self {
            Self::Cell(cell) => *cell,
            Self::Written(text) => Cell::Text(text),
        }
    }
}

impl<'r> FromSql<'r> for PgCell<'r> {
    fn from_sql(kind: &Type, raw: &'r [u8]) -> Result<Self, Box<dyn Error + Sync + Send>> {
        let time = |micros: i64| micros.checked_mul(1_000).and_then(|nanos| nanos.checked_add(EPOCH * SECOND));
        Ok(Self::Cell(match *kind {
            Type::INT2 => Cell::Integer(i16::from_sql(kind, raw)?.into()),
            Type::INT4 => Cell::Integer(i32::from_sql(kind, raw)?.into()),
            Type::INT8 => Cell::Integer(i64::from_sql(kind, raw)?.into()),
            Type::FLOAT4 => Cell::Number(f32::from_sql(kind, raw)?.to_string().parse()?),
            Type::FLOAT8 => Cell::Number(f64::from_sql(kind, raw)?),
            Type::NUMERIC => return Ok(numeric(raw).map_or(Self::Cell(Cell::Unusable("not a finite number")), Self::Written)),
            Type::TEXT | Type::VARCHAR | Type::BPCHAR | Type::NAME | Type::UNKNOWN => Cell::Text(<&str>::from_sql(kind, raw)?.trim()),
            Type::BOOL => Cell::Bool(bool::from_sql(kind, raw)?),
            Type::TIMESTAMPTZ => time(big_endian(raw)?).map_or(Cell::Unusable("out of range"), Cell::Time),
            Type::TIMESTAMP => time(big_endian(raw)?).map_or(Cell::Unusable("out of range"), Cell::LocalTime),
            Type::DATE => {
                let days = i64::from(i32::from_sql(&Type::INT4, raw)?);
                days.checked_mul(DAY).and_then(|nanos| nanos.checked_add(EPOCH * SECOND)).map_or(Cell::Unusable("out of range"), Cell::LocalTime)
            }
            Type::UUID if raw.len() == 16 => {
                let digits: String = raw.iter().map(|byte| format!("{byte:02x}")).collect();
                let parts = [&digits[..8], &digits[8..12], &digits[12..16], &digits[16..20], &digits[20..]];
                return Ok(Self::Written(parts.join("-")));
            }
            Type::JSON => Cell::Text(<&str>::from_sql(&Type::TEXT, raw)?),
            _ if matches!(kind.kind(), tokio_postgres::types::Kind::Enum(_)) => Cell::Text(<&str>::from_sql(&Type::TEXT, raw)?),
            _ => Cell::Unusable("of a type that is neither number, text nor time: convert it in a `query`"),
        }))
    }

    fn from_sql_null(_: &Type) -> Result<Self, Box<dyn Error + Sync + Send>> {
        Ok(Self::Cell(Cell::Empty))
    }

    fn accepts(_: &Type) -> bool {
        true
    }
}

fn big_endian(raw: &[u8]) -> Result<i64, Box<dyn Error + Sync + Send>> {
    Ok(i64::from_be_bytes(raw.try_into()?))
}

/// Formats a `numeric` as decimal text. Its digits are in base 10,000; the first has the weight 10,000^weight. Returns `None` if it is not finite or damaged.
fn numeric(raw: &[u8]) -> Option<String> {
    let short = |at: usize| raw.get(at..at + 2).map(|bytes| i16::from_be_bytes([bytes[0], bytes[1]]));
    let (count, weight, sign, scale) = (short(0)?, i32::from(short(2)?), short(4)? as u16, usize::try_from(short(6)?).ok()?);
    if !matches!(sign, 0 | 0x4000) {
        return None;
    }
    let digit = |position: i32| {
        usize::try_from(weight - position).ok().filter(|at| *at < usize::from(count as u16)).and_then(|at| short(8 + 2 * at)).unwrap_or(0)
    };
    let mut text = if sign == 0x4000 { "-".to_owned() } else { String::new() };
    let first = weight.max(0);
    for position in (0..=first).rev() {
        let digits = digit(position);
        text.push_str(&if position == first { digits.to_string() } else { format!("{digits:04}") });
    }
    if scale > 0 {
        let fraction: String = (1..=i32::try_from(scale.div_ceil(4)).ok()?).map(|position| format!("{:04}", digit(-position))).collect();
        text.push('.');
        text.push_str(&fraction[..scale]);
    }
    Some(text)
}

/// A failure in words, with a remedy for a source.
fn describe(error: &tokio_postgres::Error) -> String {
    let remedy = match error.code() {
        Some(&SqlState::UNDEFINED_TABLE) => ": check `table`",
        Some(&SqlState::UNDEFINED_COLUMN) => ": check the names of columns in `mapping` and `where`",
        Some(&SqlState::INSUFFICIENT_PRIVILEGE) => ": grant SELECT to the user",
        Some(&SqlState::QUERY_CANCELED) => ": raise `timeout`, or index the column of the time",
        Some(&SqlState::READ_ONLY_SQL_TRANSACTION) => ": a source only reads",
        _ => "",
    };
    postgres::describe(error, remedy)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numerics_are_written_digit_by_digit() {
        let raw = |shorts: &[i16]| shorts.iter().flat_map(|short| short.to_be_bytes()).collect::<Vec<u8>>();
        let cases: [(&[i16], Option<&str>); 7] = [
            (&[2, 0, 0, 2, 312, 5000], Some("312.50")),
            (&[3, 1, 0x4000, 4, 12, 3456, 7800], Some("-123456.7800")),
            (&[1, -1, 0, 3, 10], Some("0.001")),
            (&[1, -2, 0, 6, 1200], Some("0.000012")),
            (&[1, 2, 0, 0, 5], Some("500000000")),
            (&[0, 0, 0, 0], Some("0")),
            (&[0, 0, -16_384, 0], None),
        ];
        for (shorts, wanted) in cases {
            assert_eq!(numeric(&raw(shorts)).as_deref(), wanted);
        }
        assert_eq!(numeric(&[1, 2]), None);
    }
}
