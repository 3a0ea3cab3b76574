//! Any bytes, given a right checksum, are decoded or refused: no panic, no endless loop, no memory without bound; and what was decoded in
//! order of time comes back bit for bit when it is encoded again.
#![no_main]

use fenetre_core::block::{Columns, decode, encode};
use libfuzzer_sys::fuzz_target;

/// CRC-32 as in gzip, bit by bit.
fn checksum(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(!0u32, |sum, byte| (0..8).fold(sum ^ u32::from(*byte), |sum, _| if sum & 1 == 1 { (sum >> 1) ^ 0xedb8_8320 } else { sum >> 1 }))
}

fuzz_target!(|body: &[u8]| {
    let block = [body, &checksum(body).to_le_bytes()].concat();
    let mut points = Columns::default();
    if decode(&block, &mut points).is_err() {
        assert!(points.is_empty());
        return;
    }
    assert!(points.times.len() == points.values.len() && points.len() <= 1 << 16);
    let in_order = points.times.windows(2).all(|pair| pair[0] < pair[1]);
    // Rests are of integers; a body may claim others, which no writer makes.
    if in_order && points.rests.is_empty() {
        let mut again = Columns::default();
        assert_eq!(decode(&encode(points.points()), &mut again), Ok(()));
        assert_eq!(again.times, points.times);
        assert!(again.values.iter().zip(&points.values).all(|(a, b)| a.to_bits() == b.to_bits()));
    }
});
