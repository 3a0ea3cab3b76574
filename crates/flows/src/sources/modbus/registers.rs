//! The registers of a source: those of its definition, and those of its CSV file.

use std::collections::BTreeMap;

use serde::{Deserialize, de::DeserializeOwned};

use super::super::read_text;
use crate::{
    definition::{Modbus, Register},
    error::FlowError,
};

const ACTION: &str = "read the registers in";
/// Maximum size of a file of registers, in bytes.
const MAX_BYTES: u64 = 4_000_000;
/// Maximum number of registers.
const MAX_REGISTERS: usize = 20_000;
/// Before the key of a tag, in the header of the file.
const TAG: &str = "tag:";
/// Separates several numbers or words in a cell: `0=shut;1=open`.
const SEPARATOR: char = ';';

/// All registers.
pub fn all(modbus: &Modbus) -> Result<Vec<Register>, FlowError> {
    let mut registers = modbus.registers.clone();
    if let Some(path) = &modbus.registers_file {
        let fault = |reason: String| FlowError::File { action: ACTION, path: path.display().to_string(), reason };
        registers.extend(read(&read_text(ACTION, path, MAX_BYTES)?).map_err(fault)?);
    }
    if registers.len() > MAX_REGISTERS {
        return Err(FlowError::Definition(format!("registers: {} are too many: use up to {MAX_REGISTERS} in one source", registers.len())));
    }
    Ok(registers)
}

/// Reads a table with the keys of a register as its header, and tags as `tag:KEY`.
fn read(text: &str) -> Result<Vec<Register>, String> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).comment(Some(b'#')).from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let header: Vec<String> = reader.headers().map_err(|error| error.to_string())?.iter().map(str::to_owned).collect();
    let mut registers = Vec::new();
    for record in reader.records() {
        let record = record.map_err(|error| error.to_string())?;
        let line = record.position().map_or(0, csv::Position::line);
        let cells = header.iter().map(String::as_str).zip(record.iter()).filter(|(_, cell)| !cell.is_empty());
        registers.push(
            register(cells)
                .and_then(|register| register.check("the register").map(|()| register))
                .map_err(|reason| format!("line {line}: {reason}"))?,
        );
    }
    Ok(registers)
}

fn register<'r>(cells: impl Iterator<Item = (&'r str, &'r str)>) -> Result<Register, String> {
    let mut object = serde_json::Map::new();
    let mut tags = BTreeMap::new();
    for (name, cell) in cells {
        if let Some(key) = name.strip_prefix(TAG) {
            tags.insert(key.to_owned(), cell.to_owned());
            continue;
        }
        let value = match name {
            "address" | "bit" | "length" => json::<u64>(name, cell)?,
            "scale" | "offset" => json::<f64>(name, cell)?,
            "missing" => serde_json::Value::Array(cell.split(SEPARATOR).map(|part| json::<f64>(name, part.trim())).collect::<Result<_, _>>()?),
            "words" => {
                let pairs =
                    cell.split(SEPARATOR).map(|pair| pair.split_once('=').map(|(number, word)| (number.trim().to_owned(), word.trim().into())));
                let words = pairs.collect::<Option<serde_json::Map<_, _>>>();
                words.ok_or_else(|| format!("words: `{cell}` is not a list such as 0=shut{SEPARATOR}1=open"))?.into()
            }
            _ => cell.into(),
        };
        object.insert(name.to_owned(), value);
    }
    let mut register = Register::deserialize(serde_json::Value::Object(object)).map_err(|error| error.to_string())?;
    register.tags.extend(tags);
    Ok(register)
}

fn json<T: DeserializeOwned + Into<serde_json::Value>>(name: &str, cell: &str) -> Result<serde_json::Value, String> {
    serde_json::from_str::<T>(cell).map(Into::into).map_err(|_| format!("{name}: `{cell}` is not a number that fits"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_of_registers_is_read() {
        let text = "metric,table,address,type,scale,unit,words,missing,tag:side,every\n# upper lock\nturbidity,input,12,u16,0.1,{NTU},,65535;65534,up,5s\ngate,discrete,3,,,,0=shut;1=open,,,\n";
        let registers = read(text).unwrap();
        assert_eq!(registers.len(), 2);
        assert_eq!(
            (registers[0].scale, registers[0].missing.as_slice(), registers[0].tags["side"].as_str()),
            (Some(0.1), [65_535.0, 65_534.0].as_slice(), "up")
        );
        assert_eq!(registers[1].words["1"], "open");
    }

    #[test]
    fn mistakes_have_a_line() {
        let wrong = [
            "metric,address\nlevel,abc\n",
            "metric,address\nlevel,70000\n",
            "metric,adress\nlevel,1\n",
            "metric,address,type\nlevel,1,u17\n",
            "metric,address,words\nlevel,1,shut\n",
            "metric,address,length\nlevel,1,3\n",
            "metric,address\nlevel,1,2\n",
            "address\n1\n",
        ];
        insta::assert_snapshot!(wrong.map(|text| read(text).unwrap_err()).join("\n"));
    }
}
