//! One gateway: a connection, over which its devices are read one after another, again and again.

use std::{
    collections::BTreeMap,
    io,
    sync::Arc,
    time::{Duration, Instant},
};

use fenetre_core::time::Nanos;
use tokio::{sync::mpsc::Sender, task::yield_now, time::timeout};
use tokio_modbus::{
    ExceptionCode,
    client::{Context, Reader, tcp},
    slave::{Slave, SlaveContext},
};

use super::{
    plan::{Request, requests},
    value::{Held, of_bit, of_words},
};
use crate::definition::{Device, Endian, Register, Table};

/// Longest rest of a device that does not answer.
const MAX_REST: Duration = Duration::from_secs(60);

/// What all devices of a source have in common.
pub struct Shared {
    pub registers: Vec<Register>,
    /// Period of each register.
    pub periods: Vec<Duration>,
    pub orders: (Endian, Endian),
    pub gap: u16,
    pub timeout: Duration,
    pub clock: fn() -> Nanos,
}

/// What was read of a device.
pub struct Report {
    /// Position of the device in the definition.
    pub device: usize,
    /// Values, each with the position of its register.
    pub values: Vec<(usize, Held)>,
    pub at: Nanos,
    /// Why nothing, or not everything, was read.
    pub error: Option<String>,
    pub seconds: f64,
    pub bytes: usize,
}

struct Reading {
    position: usize,
    device: Device,
    due: Vec<Instant>,
    /// Registers that spoiled a request that they shared.
    alone: Vec<bool>,
    /// Why the latest read of a register failed, of those that did.
    faults: BTreeMap<usize, String>,
    /// Reads in a row that got no answer at all.
    silent: u32,
    /// End of its rest.
    rest: Instant,
}

/// Why a request got no values.
enum Failure {
    /// The device says why.
    Exception(ExceptionCode),
    /// The connection is of no more use.
    Broken(String),
}

/// Reads the devices of one address until nobody takes the reports.
pub async fn run(place: (String, u16), devices: Vec<(usize, Device)>, shared: Arc<Shared>, reports: Sender<Report>) {
    let now = Instant::now();
    let fresh = |(position, device)| Reading {
        position,
        device,
        due: vec![now; shared.registers.len()],
        alone: vec![false; shared.registers.len()],
        faults: BTreeMap::new(),
        silent: 0,
        rest: now,
    };
    let mut devices: Vec<Reading> = devices.into_iter().map(fresh).collect();
    let mut connection: Option<Context> = None;
    loop {
        for reading in &mut devices {
            if let Some(report) = reading.read(&place, &mut connection, &shared).await
                && reports.send(report).await.is_err()
            {
                return;
            }
        }
        let next = devices.iter().filter_map(|reading| reading.due.iter().min().map(|due| (*due).max(reading.rest))).min();
        let Some(next) = next else { return };
        tokio::select! {
            () = tokio::time::sleep(next.saturating_duration_since(Instant::now())) => {}
            () = reports.closed() => return,
        }
        // Others have their turn, even if every period is shorter than a read.
        yield_now().await;
    }
}

impl Reading {
    /// Reads the registers that are due.
    async fn read(&mut self, place: &(String, u16), connection: &mut Option<Context>, shared: &Shared) -> Option<Report> {
        let begun = Instant::now();
        if self.rest > begun {
            return None;
        }
        let due: Vec<usize> = (0..self.due.len()).filter(|at| self.due[*at] <= begun).collect();
        if due.is_empty() {
            return None;
        }
        for at in &due {
            // Lost turns are not made up for.
            self.due[*at] = (self.due[*at] + shared.periods[*at]).max(begun);
        }
        let mut report = Report { device: self.position, values: Vec::new(), at: (shared.clock)(), error: None, seconds: 0.0, bytes: 0 };
        let mut waiting = requests(&shared.registers, due.iter().copied(), shared.gap, |at| self.alone[at]);
        waiting.reverse();
        let mut broken = None;
        while let Some(request) = waiting.pop() {
            match ask(place, &self.device, connection, &request, shared).await {
                Ok(values) => {
                    report.bytes += if request.table.is_bits() { usize::from(request.count).div_ceil(8) } else { usize::from(request.count) * 2 };
                    for (at, held) in values {
                        match held {
                            Held::Unnamed(number) => {
                                self.faults.insert(at, format!("{}: there is no word for {number}", shared.registers[at].place()));
                            }
                            _ => {
                                self.faults.remove(&at);
                            }
                        }
                        report.values.push((at, held));
                    }
                }
                Err(Failure::Exception(code)) if request.registers.len() > 1 => {
                    // One of them is to blame: each is asked for by itself, now and later.
                    request.registers.iter().for_each(|at| self.alone[*at] = true);
                    tracing::debug!(device = self.device.name(), %code, "a request is split");
                    waiting.extend(request.split(&shared.registers).into_iter().rev());
                }
                Err(Failure::Exception(code)) => {
                    let at = request.registers[0];
                    self.faults.insert(at, format!("{}: {}", shared.registers[at].place(), describe(code)));
                }
                Err(Failure::Broken(reason)) => {
                    *connection = None;
                    broken = Some(reason);
                    break;
                }
            }
        }
        let is_silent = broken.is_some();
        let more = self.faults.len().saturating_sub(1);
        let first = self.faults.values().next();
        report.error = broken.or_else(|| first.map(|first| if more > 0 { format!("{first} (and {more} more)") } else { first.clone() }));
        report.seconds = begun.elapsed().as_secs_f64();
        if is_silent && report.values.is_empty() {
            self.silent += 1;
            let period = shared.periods.iter().min().copied().unwrap_or(MAX_REST);
            self.rest = Instant::now() + period.saturating_mul(1 << self.silent.min(16)).min(MAX_REST);
        } else {
            self.silent = 0;
        }
        Some(report)
    }
}

/// Sends a request, over a new connection if there is none.
async fn ask(
    place: &(String, u16),
    device: &Device,
    connection: &mut Option<Context>,
    request: &Request,
    shared: &Shared,
) -> Result<Vec<(usize, Held)>, Failure> {
    let silent = || Failure::Broken(format!("does not answer within {} ms (`timeout`)", shared.timeout.as_millis()));
    if connection.is_none() {
        let connecting = timeout(shared.timeout, tokio::net::TcpStream::connect((place.0.as_str(), place.1))).await;
        let stream = connecting.map_err(|_| silent())?.map_err(|error| Failure::Broken(of_io(&error)))?;
        // A request is small, and the next one waits for its answer.
        let _ = stream.set_nodelay(true);
        *connection = Some(tcp::attach_slave(stream, Slave(device.unit)));
    }
    let Some(context) = connection.as_mut() else { return Err(silent()) };
    context.set_slave(Slave(device.unit));
    let (start, count) = (request.start, request.count);
    let offset = |register: &Register| usize::from(register.address - start);
    if request.table.is_bits() {
        let asking = async {
            if request.table == Table::Coil { context.read_coils(start, count).await } else { context.read_discrete_inputs(start, count).await }
        };
        let bits = timeout(shared.timeout, asking).await.map_err(|_| silent())?;
        let bits = bits.map_err(|error| of_error(&error))?.map_err(Failure::Exception)?;
        let of_register = |at: &usize| {
            let register = &shared.registers[*at];
            bits.get(offset(register)).map(|bit| (*at, of_bit(register, *bit)))
        };
        return request.registers.iter().map(of_register).collect::<Option<_>>().ok_or_else(too_short);
    }
    let asking = async {
        if request.table == Table::Holding {
            context.read_holding_registers(start, count).await
        } else {
            context.read_input_registers(start, count).await
        }
    };
    let words = timeout(shared.timeout, asking).await.map_err(|_| silent())?;
    let words = words.map_err(|error| of_error(&error))?.map_err(Failure::Exception)?;
    let of_register = |at: &usize| {
        let register = &shared.registers[*at];
        let own = words.get(offset(register)..offset(register) + usize::from(register.count()));
        own.map(|own| (*at, of_words(register, own, shared.orders)))
    };
    request.registers.iter().map(of_register).collect::<Option<_>>().ok_or_else(too_short)
}

fn too_short() -> Failure {
    Failure::Broken("answered with fewer registers than were asked for".to_owned())
}

fn of_error(error: &tokio_modbus::Error) -> Failure {
    Failure::Broken(match error {
        tokio_modbus::Error::Transport(error) => of_io(error),
        tokio_modbus::Error::Protocol(_) => "the device there does not speak Modbus TCP, or answers another request".to_owned(),
    })
}

fn of_io(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
        io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe | io::ErrorKind::UnexpectedEof | io::ErrorKind::ConnectionAborted => {
            "the device closed the connection".to_owned()
        }
        io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput => "the device there does not speak Modbus TCP".to_owned(),
        _ => format!("the connection failed ({error})"),
    }
}

/// An exception in words (MODBUS Application Protocol 1.1b3, 7).
fn describe(code: ExceptionCode) -> String {
    let (number, words) = match code {
        ExceptionCode::IllegalFunction => (1, "the device has no such table"),
        ExceptionCode::IllegalDataAddress => (2, "the device has no such address"),
        ExceptionCode::IllegalDataValue => (3, "the device does not return that many registers"),
        ExceptionCode::ServerDeviceFailure => (4, "the device failed"),
        ExceptionCode::Acknowledge => (5, "the device still works on it"),
        ExceptionCode::ServerDeviceBusy => (6, "the device is busy"),
        ExceptionCode::MemoryParityError => (8, "the memory of the device is damaged"),
        ExceptionCode::GatewayPathUnavailable => (10, "the gateway has no path to the unit"),
        ExceptionCode::GatewayTargetDevice => (11, "the unit behind the gateway does not answer"),
        ExceptionCode::Custom(number) => (number, "of the manufacturer"),
    };
    format!("exception {number}: {words}")
}
