//! Registers to values.

use fenetre_core::model::ValueRef;
use fenetre_formats::mapping::{Cell, Numbers};

use crate::definition::{Endian, Form, Register};

/// What registers hold.
#[derive(Clone, Debug, PartialEq)]
pub enum Held {
    /// A number.
    Number(ValueRef<'static>),
    /// A word of a state.
    Word(String),
    /// The mark of a missing value.
    Missing,
    /// A number for which there is no word.
    Unnamed(i128),
}

impl Held {
    /// As a value of a point, if it is one.
    pub fn value(&self) -> Option<ValueRef<'_>> {
        match self {
            Self::Number(number) => Some(*number),
            Self::Word(word) => Some(ValueRef::Word(word)),
            Self::Missing | Self::Unnamed(_) => None,
        }
    }
}

/// Reads a bit.
pub fn of_bit(register: &Register, bit: bool) -> Held {
    named(register, i128::from(bit))
}

/// Reads the words of a register; there are as many as it counts.
pub fn of_words(register: &Register, words: &[u16], (word_order, byte_order): (Endian, Endian)) -> Held {
    let word_order = register.word_order.unwrap_or(word_order);
    let byte_order = register.byte_order.unwrap_or(byte_order);
    let swapped = |word: u16| if byte_order == Endian::Little { word.swap_bytes() } else { word };
    let whole = || {
        let join = |bits: u64, word: u16| (bits << 16) | u64::from(swapped(word));
        match word_order {
            Endian::Big => words.iter().copied().fold(0, join),
            Endian::Little => words.iter().rev().copied().fold(0, join),
        }
    };
    match register.form() {
        Form::Bit => of_bit(register, whole() >> register.bit.unwrap_or(0) & 1 == 1),
        Form::U16 | Form::U32 | Form::U64 => named(register, i128::from(whole())),
        Form::I16 => named(register, i128::from(whole() as u16 as i16)),
        Form::I32 => named(register, i128::from(whole() as u32 as i32)),
        Form::I64 => named(register, i128::from(whole() as i64)),
        Form::F32 => {
            let raw = f64::from(f32::from_bits(whole() as u32));
            number(register, raw, Cell::Number(raw))
        }
        Form::F64 => {
            let raw = f64::from_bits(whole());
            number(register, raw, Cell::Number(raw))
        }
        Form::Text => {
            // The bytes are in the order in which they are sent, unless each pair is swapped.
            let bytes = words.iter().flat_map(|word| swapped(*word).to_be_bytes()).take_while(|byte| *byte != 0);
            let text: String = bytes.map(|byte| if byte.is_ascii() && !byte.is_ascii_control() { char::from(byte) } else { '?' }).collect();
            match text.trim() {
                "" => Held::Missing,
                text => Held::Word(text.to_owned()),
            }
        }
    }
}

/// An integer: a word, if there are words; else a number.
fn named(register: &Register, integer: i128) -> Held {
    if register.words.is_empty() || register.missing.contains(&(integer as f64)) {
        return number(register, integer as f64, Cell::Integer(integer));
    }
    register.words.get(&integer.to_string()).map_or(Held::Unnamed(integer), |word| Held::Word(word.clone()))
}

/// A number, with scale and offset.
fn number(register: &Register, raw: f64, cell: Cell<'_>) -> Held {
    if register.missing.contains(&raw) {
        return Held::Missing;
    }
    let numbers = Numbers { scale: register.scale, offset: register.offset, ..Numbers::default() };
    // A number is read whatever it is.
    numbers.read(cell, &register.metric).map_or(Held::Missing, Held::Number)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::definition::Definition;

    fn register(text: &str) -> Register {
        let text = format!("kind = \"modbus\"\ndevices = [{{ address = \"h\" }}]\nregisters = [{{ metric = \"a\", address = 0, {text} }}]\n");
        let Definition::Modbus(mut modbus) = Definition::parse(&text, "x").unwrap() else { panic!("another kind") };
        modbus.registers.remove(0)
    }

    const BIG: (Endian, Endian) = (Endian::Big, Endian::Big);

    #[test]
    fn every_type_is_read_in_every_order() {
        // The bits of each number, and its words in the four orders.
        let cases = [
            ("u32", 0x0001_0002_u64, 2, 65_538.0),
            ("i32", 0xffff_fffe, 2, -2.0),
            ("f32", u64::from(3.25_f32.to_bits()), 2, 3.25),
            ("i64", (-5_i64) as u64, 4, -5.0),
            ("u64", 7, 4, 7.0),
            ("f64", (-0.125_f64).to_bits(), 4, -0.125),
            ("u16", 0xfff0, 1, 65_520.0),
            ("i16", 0xfff0, 1, -16.0),
        ];
        for (form, bits, count, wanted) in cases {
            let words: Vec<u16> = (0..count).rev().map(|at| (bits >> (16 * at)) as u16).collect();
            let register = register(&format!("type = \"{form}\""));
            let swapped: Vec<u16> = words.iter().map(|word| word.swap_bytes()).collect();
            let backwards = |words: &[u16]| words.iter().rev().copied().collect::<Vec<_>>();
            let orders = [
                (words.clone(), BIG),
                (backwards(&words), (Endian::Little, Endian::Big)),
                (swapped.clone(), (Endian::Big, Endian::Little)),
                (backwards(&swapped), (Endian::Little, Endian::Little)),
            ];
            for (words, order) in orders {
                assert_eq!(of_words(&register, &words, order), Held::Number(ValueRef::Number(wanted)), "{form} {order:?}");
            }
        }
    }

    #[test]
    fn bits_texts_words_and_missing_values() {
        let held = |text: &str, words: &[u16]| of_words(&register(text), words, BIG);
        assert_eq!(held("type = \"bit\", bit = 3", &[0b1000]), Held::Number(ValueRef::Number(1.0)));
        assert_eq!(held("type = \"bit\", bit = 2, words = { 0 = \"shut\", 1 = \"open\" }", &[0b1000]), Held::Word("shut".to_owned()));
        assert_eq!(held("words = { 0 = \"shut\" }", &[4]), Held::Unnamed(4));
        assert_eq!(held("type = \"text\", length = 3", &[0x4f73, 0x6965, 0x7200]), Held::Word("Osier".to_owned()));
        assert_eq!(held("type = \"text\", length = 1", &[0]), Held::Missing);
        assert_eq!(held("missing = [65535]", &[65_535]), Held::Missing);
        assert_eq!(held("scale = 0.1, offset = -40", &[500]), Held::Number(ValueRef::Number(10.0)));
        assert_eq!(held("type = \"u64\"", &[0xffff; 4]), Held::Number(ValueRef::Integer(i128::from(u64::MAX))));
        assert_eq!(of_bit(&register("table = \"coil\""), true), Held::Number(ValueRef::Number(1.0)));
    }
}
