//! Any body of any format is read or refused, and everything in it is counted.
#![no_main]

use fenetre_core::model::{PointRef, PointSink, Refusal};
use fenetre_formats::{
    Format,
    csv::{Mapping, ValueColumn},
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

fuzz_target!(|input: &[u8]| {
    let Some((form, body)) = input.split_first() else { return };
    let format = match form % 3 {
        0 => Format::Json,
        1 => Format::JsonLines,
        _ => Format::Csv(Mapping { tags: vec!["a".into()], values: vec![ValueColumn::parse("b", false), ValueColumn::parse("c", true)], ..Mapping::default() }),
    };
    let body = if form % 3 == 2 { [b"a,b,c\n", body].concat() } else { body.to_vec() };
    let mut count = Count(0);
    if let Ok(tally) = read(&format, &body, 0, &mut count) {
        assert_eq!(tally.accepted, count.0);
    }
});
