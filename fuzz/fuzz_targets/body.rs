//! Any body of any format is read or refused, and everything in it is counted.
#![no_main]

use fenetre_core::model::{PointRef, PointSink, Refusal};
use fenetre_formats::{
    Format,
    mapping::{Column, Mapping, Role},
    read,
};
use libfuzzer_sys::fuzz_target;

struct Count(u64);

impl PointSink for Count {
    fn accept(&mut self, _: PointRef<'_>) -> Result<(), Refusal> {
        self.0 += 1;
        Ok(())
    }
}

const FORMATS: [Format; 9] = [
    Format::Json,
    Format::JsonLines,
    Format::Csv,
    Format::Tsv,
    Format::SenmlJson,
    Format::SenmlCbor,
    Format::OpenMetrics,
    Format::OtlpProtobuf,
    Format::OtlpJson,
];

fuzz_target!(|input: &[u8]| {
    let Some((form, body)) = input.split_first() else { return };
    let format = FORMATS[usize::from(*form) % FORMATS.len()];
    let columns = vec![Column::parse("a", Role::Tag), Column::parse("b", Role::Value), Column::parse("c", Role::State)];
    let mapping = (form & 0x80 != 0 || format == Format::Csv).then(|| Mapping { columns, ..Mapping::default() });
    let body = if format == Format::Csv { [b"a,b,c\n", body].concat() } else { body.to_vec() };
    let mut count = Count(0);
    if let Ok(tally) = read(format, mapping, &body, 0, &mut count) {
        assert_eq!(tally.accepted, count.0);
    }
});
