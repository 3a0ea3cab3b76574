//! The definition of a source that reads registers of Modbus devices.

use std::{collections::BTreeMap, path::PathBuf};

use fenetre_core::{
    model::check_name,
    time::{SECOND, Span},
};
use serde::{Deserialize, Serialize};

use super::{address::Address, check_files, check_tags, exact};

/// Maximum number of registers in a response (MODBUS Application Protocol 1.1b3, 6.3).
pub const MAX_REGISTERS: u16 = 125;

kind! {
    /// Reads registers of devices over Modbus TCP.
    Modbus {
        /// The devices.
        #[serde(default)]
        pub devices: Vec<Device>,
        /// What is read of each device.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        pub registers: Vec<Register>,
        /// A CSV file with further registers, on the machine of the service.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub registers_file: Option<PathBuf>,
        /// Order of the registers of a value (default: `big`, the high word first).
        #[serde(default)]
        pub word_order: Endian,
        /// Order of the bytes of a register (default: `big`).
        #[serde(default)]
        pub byte_order: Endian,
        /// Maximum time of a request (default: 1 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub timeout: Option<Span>,
        /// Maximum number of unused registers between two that share a request (default: 8).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub max_gap: Option<u16>,
    }
}

/// A device, or one of several behind a gateway.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Device {
    /// Where: `HOST:PORT` (default port: 502).
    pub address: String,
    /// Its unit id behind a gateway (default: 1).
    #[serde(default = "default_unit")]
    pub unit: u8,
    /// Tags of its points.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tags: BTreeMap<String, String>,
}

fn default_unit() -> u8 {
    1
}

/// A value in one or several registers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Register {
    /// Metric of its points.
    pub metric: String,
    /// The table (default: `holding`).
    #[serde(default)]
    pub table: Table,
    /// Address of its first register, from 0.
    pub address: u16,
    /// How its registers are read (default: `u16`; in the tables of bits: `bit`).
    #[serde(default, rename = "type", skip_serializing_if = "Option::is_none")]
    pub form: Option<Form>,
    /// Number of the bit in its register, from 0, the lowest; for `bit`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bit: Option<u8>,
    /// Number of registers; for `text`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub length: Option<u16>,
    /// Factor of the value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scale: Option<f64>,
    /// Addend: the value becomes `value * scale + offset`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offset: Option<f64>,
    /// UCUM code of the unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Words of a state by number: `{ 0 = "shut", 1 = "open" }`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub words: BTreeMap<String, String>,
    /// Raw numbers that mean a missing value, before scale and offset.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<f64>,
    /// Tags of its points.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tags: BTreeMap<String, String>,
    /// Period, if it differs from the source's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every: Option<Span>,
    /// Order of its registers, if it differs from the source's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub word_order: Option<Endian>,
    /// Order of the bytes of its registers, if it differs from the source's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub byte_order: Option<Endian>,
}

/// A table of a device.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Table {
    /// Registers that can be written (function 3).
    #[default]
    Holding,
    /// Registers that can only be read (function 4).
    Input,
    /// Bits that can be written (function 1).
    Coil,
    /// Bits that can only be read (function 2).
    Discrete,
}

impl Table {
    /// Whether it consists of bits.
    pub fn is_bits(self) -> bool {
        matches!(self, Self::Coil | Self::Discrete)
    }

    /// Its name.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Holding => "holding",
            Self::Input => "input",
            Self::Coil => "coil",
            Self::Discrete => "discrete",
        }
    }
}

/// How registers are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Form {
    /// One bit.
    Bit,
    /// An unsigned integer of one register.
    U16,
    /// A signed integer of one register.
    I16,
    /// An unsigned integer of two registers.
    U32,
    /// A signed integer of two registers.
    I32,
    /// An unsigned integer of four registers.
    U64,
    /// A signed integer of four registers.
    I64,
    /// A number of two registers (IEEE 754, binary32).
    F32,
    /// A number of four registers (IEEE 754, binary64).
    F64,
    /// Characters in ASCII, two to a register; ends at the first zero.
    Text,
}

/// Order of the parts of a value.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Endian {
    /// The high part first.
    #[default]
    Big,
    /// The low part first.
    Little,
}

impl Register {
    /// How it is read.
    pub fn form(&self) -> Form {
        self.form.unwrap_or(if self.table.is_bits() { Form::Bit } else { Form::U16 })
    }

    /// Number of registers, or of bits in a table of bits.
    pub fn count(&self) -> u16 {
        match self.form() {
            Form::Bit | Form::U16 | Form::I16 => 1,
            Form::U32 | Form::I32 | Form::F32 => 2,
            Form::U64 | Form::I64 | Form::F64 => 4,
            Form::Text => self.length.unwrap_or(1),
        }
    }

    /// Where it is, for people: `turbidity (input 12)`.
    pub fn place(&self) -> String {
        format!("{} ({} {})", self.metric, self.table.as_str(), self.address)
    }

    /// Checks one register; `at` names it in errors.
    ///
    /// # Errors
    /// What is wrong, and what to write.
    pub fn check(&self, at: &str) -> Result<(), String> {
        let wrong = |text: String| Err(format!("{at}: {text}"));
        check_name(&self.metric).map_err(|error| format!("{at}: metric: {error}"))?;
        check_tags(&self.tags).map_err(|error| format!("{at}: {error}"))?;
        let form = self.form();
        if self.table.is_bits() && form != Form::Bit {
            return wrong(format!("the table {} consists of bits: remove `type`", self.table.as_str()));
        }
        match (form, self.bit, self.table.is_bits()) {
            (Form::Bit, Some(_), true) => return wrong("`bit` applies to registers only: remove it, because the table consists of bits".to_owned()),
            (Form::Bit, None, false) => return wrong("set `bit`, the number of the bit in its register: 0 to 15".to_owned()),
            (Form::Bit, Some(16..), false) => return wrong("bit: use 0 to 15".to_owned()),
            (form, Some(_), _) if form != Form::Bit => return wrong("`bit` needs type = \"bit\"".to_owned()),
            _ => {}
        }
        if (form == Form::Text) != self.length.is_some() {
            return wrong("set both type = \"text\" and `length`, or neither".to_owned());
        }
        if !(1..=MAX_REGISTERS).contains(&self.count()) || usize::from(self.address) + usize::from(self.count()) > 65_536 {
            return wrong(format!("a value takes 1 to {MAX_REGISTERS} registers, up to address 65535"));
        }
        let is_number = form != Form::Text && self.words.is_empty();
        if !is_number && (self.scale.is_some() || self.offset.is_some() || self.unit.is_some()) {
            return wrong("scale, offset and unit are for numbers, not for words or texts".to_owned());
        }
        if [self.scale, self.offset].into_iter().flatten().any(|number| !number.is_finite()) {
            return wrong("scale and offset must be finite".to_owned());
        }
        if let Some(word) = self.words.keys().find(|number| number.parse::<i64>().is_err()) {
            return wrong(format!("words: `{word}` is not an integer: write, for example, words = {{ 0 = \"shut\", 1 = \"open\" }}"));
        }
        if form == Form::Text && !self.words.is_empty() {
            return wrong("words are for integers, not for texts".to_owned());
        }
        if matches!(form, Form::F32 | Form::F64) && !self.words.is_empty() {
            return wrong("words are for integers, not for floating-point numbers".to_owned());
        }
        check_period(self.every).map_err(|error| format!("{at}: {error}"))
    }
}

fn check_period(every: Option<Span>) -> Result<(), String> {
    let fits = every.is_none_or(|every| (SECOND / 10..=7 * 24 * 3_600 * SECOND).contains(&exact(every)));
    if fits { Ok(()) } else { Err("every: use 100ms to 7d".to_owned()) }
}

impl Device {
    /// Host and port.
    ///
    /// # Errors
    /// What is wrong, with an example.
    pub fn place(&self) -> Result<(String, u16), String> {
        let address = Address::parse(&format!("modbus://{}", self.address), &["modbus"], "10.0.0.5:502");
        let address = address.map_err(|_| format!("`{}` is not an address: write a host and a port, such as 10.0.0.5:502", self.address))?;
        Ok((address.host, address.port.unwrap_or(502)))
    }

    /// Its name for people.
    pub fn name(&self) -> String {
        format!("{} unit {}", self.address, self.unit)
    }
}

impl Modbus {
    /// The longest period of a register, given that of the source; none if the registers are in a file.
    pub fn longest_period(&self, every: i64) -> Option<i64> {
        let own = self.registers.iter().map(|register| register.every.map_or(every, exact)).max();
        if self.registers_file.is_some() { None } else { own }
    }

    pub(super) fn check(&self) -> Result<(), String> {
        if self.format.is_some() || self.mapping.is_some() {
            return Err("format and mapping: they do not apply to registers: remove them".to_owned());
        }
        if self.devices.is_empty() {
            return Err("devices: name at least one, such as devices = [{ address = \"10.0.0.5:502\" }]".to_owned());
        }
        let mut seen = std::collections::HashSet::new();
        for device in &self.devices {
            device.place().map_err(|error| format!("devices: {error}"))?;
            check_tags(&device.tags).map_err(|error| format!("devices: {error}"))?;
            if !seen.insert((&device.address, device.unit)) {
                return Err(format!("devices: {} is there twice", device.name()));
            }
        }
        if self.registers.is_empty() && self.registers_file.is_none() {
            return Err("registers: name at least one, such as registers = [{ metric = \"level\", address = 0 }], or a registers_file".to_owned());
        }
        self.registers.iter().zip(1..).try_for_each(|(register, number)| register.check(&format!("register {number}")))?;
        check_files(&[("registers_file", self.registers_file.as_ref())])?;
        if !(SECOND / 100..=60 * SECOND).contains(&self.timeout.map_or(SECOND, exact)) {
            return Err("timeout: use 10ms to 1m".to_owned());
        }
        if self.max_gap.is_some_and(|gap| gap >= MAX_REGISTERS) {
            return Err(format!("max_gap: use 0 to {}", MAX_REGISTERS - 1));
        }
        Ok(())
    }
}
