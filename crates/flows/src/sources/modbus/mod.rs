//! Registers of Modbus devices. Each gateway is read at its own pace, so that none waits for another.

mod device;
mod plan;
mod registers;
mod value;

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
    time::Duration,
};

use fenetre_core::model::{About, Cause, Kind, PointRef, Refusal};
use fenetre_wire::sources::SourcePart;
use tokio::{
    runtime::Runtime,
    sync::mpsc::{Receiver, channel},
};

use self::{
    device::{Report, Shared},
    value::Held,
};
use super::{Outcome, Round, Source, drain::drain, gather::Gather};
use crate::{
    definition::{Device, Form, Modbus, exact},
    error::FlowError,
    runtime::new_runtime,
};

const DEFAULT_TIMEOUT: Duration = Duration::from_secs(1);
const DEFAULT_GAP: u16 = 8;
/// Reports that wait to be stored.
const REPORTS: usize = 256;
/// How long a trial waits for devices.
const TRIAL: Duration = Duration::from_secs(10);

/// A source that reads registers.
pub struct ModbusSource {
    modbus: Modbus,
    every: i64,
    running: Option<Reading>,
    parts: Vec<Option<SourcePart>>,
}

/// Gateways that are read.
struct Reading {
    runtime: Runtime,
    reports: Receiver<Report>,
    shared: Arc<Shared>,
    /// Reports that are not stored yet.
    inbox: Vec<Report>,
}

impl ModbusSource {
    /// A source of a definition that was checked; `every` is its period in nanoseconds.
    pub fn new(modbus: Modbus, every: i64) -> Self {
        let parts = vec![None; modbus.devices.len()];
        Self { modbus, every, running: None, parts }
    }

    fn start(&self, round: &Round<'_>) -> Result<Reading, FlowError> {
        let modbus = &self.modbus;
        let registers = registers::all(modbus)?;
        let span = |nanos: i64| Duration::from_nanos(nanos.unsigned_abs());
        let shared = Arc::new(Shared {
            periods: registers.iter().map(|register| span(register.every.map_or(self.every, exact))).collect(),
            registers,
            orders: (modbus.word_order, modbus.byte_order),
            gap: modbus.max_gap.unwrap_or(DEFAULT_GAP),
            timeout: modbus.timeout.map_or(DEFAULT_TIMEOUT, |timeout| span(exact(timeout))),
            clock: round.clock,
        });
        let mut gateways: BTreeMap<(String, u16), Vec<(usize, Device)>> = BTreeMap::new();
        for (position, device) in modbus.devices.iter().enumerate() {
            gateways.entry(device.place().map_err(FlowError::Definition)?).or_default().push((position, device.clone()));
        }
        let runtime = new_runtime()?;
        let (sender, reports) = channel(REPORTS);
        for (place, devices) in gateways {
            runtime.spawn(device::run(place, devices, Arc::clone(&shared), sender.clone()));
        }
        Ok(Reading { runtime, reports, shared, inbox: Vec::new() })
    }

    fn store(&mut self, running: &mut Reading, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let mut gather = Gather::new(round, &self.modbus.dataset, &self.modbus.tags)?;
        let shared = &running.shared;
        for register in &shared.registers {
            let is_state = register.form() == Form::Text || !register.words.is_empty();
            let about = About { kind: is_state.then_some(Kind::State), unit: register.unit.as_deref(), ..About::default() };
            if about != About::default() {
                gather.describe(&register.metric, about);
            }
        }
        for report in &running.inbox {
            let device = &self.modbus.devices[report.device];
            gather.read(report.bytes);
            let mut points = 0;
            for (at, held) in &report.values {
                let register = &shared.registers[*at];
                let place = || format!("{}, {}", device.name(), register.place());
                if let Held::Unnamed(number) = held {
                    let reason = format!("there is no word for {number}: add it to `words`, or to `missing`");
                    gather.refuse(Refusal { field: None, reason, cause: Cause::Value }, place);
                }
                let Some(value) = held.value() else { continue };
                // The tags of a register count more than those of its device.
                let of_device = device.tags.iter().filter(|(key, _)| !register.tags.contains_key(*key));
                let tags: Vec<(&str, &str)> = register.tags.iter().chain(of_device).map(|(key, value)| (key.as_str(), value.as_str())).collect();
                gather.point(PointRef { metric: &register.metric, tags: &tags, time: report.at, value }, place);
                points += 1;
            }
            let before = self.parts[report.device].as_ref().and_then(|part| part.error.clone());
            let name = device.name();
            if before != report.error {
                match &report.error {
                    Some(error) => round.events.add(report.at, true, format!("{name}: {error}")),
                    None => round.events.add(report.at, false, format!("{name}: answers again")),
                }
            }
            self.parts[report.device] =
                Some(SourcePart { name, error: report.error.clone(), points, seconds: report.seconds, ..SourcePart::default() });
        }
        let outcome = gather.keep()?;
        running.inbox.clear();
        Ok(outcome)
    }
}

impl Source for ModbusSource {
    fn round(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let mut running = match self.running.take() {
            Some(running) => running,
            None => self.start(round)?,
        };
        if running.inbox.is_empty() {
            let Reading { runtime, reports, inbox, .. } = &mut running;
            let devices = self.modbus.devices.len();
            let all_reported = |inbox: &[Report]| inbox.iter().map(|report| report.device).collect::<BTreeSet<_>>().len() == devices;
            runtime.block_on(drain(reports, inbox, REPORTS, round.shown.map(|_| TRIAL), all_reported));
        }
        let stored = if running.inbox.is_empty() { Ok(Outcome { is_idle: true, ..Outcome::default() }) } else { self.store(&mut running, round) };
        self.running = Some(running);
        let parts: Vec<SourcePart> = self.parts.iter().flatten().cloned().collect();
        let mut outcome = stored?;
        let failed = parts.iter().filter(|part| part.error.is_some() && part.points == 0).count();
        if failed == self.modbus.devices.len()
            && let Some((name, error)) = parts.iter().find_map(|part| part.error.as_ref().map(|error| (&part.name, error)))
        {
            let others = if failed > 1 { format!(" (and {} other devices)", failed - 1) } else { String::new() };
            outcome.failure = Some(format!("{name}: {error}{others}"));
        }
        Ok(Outcome { parts, ..outcome })
    }
}
