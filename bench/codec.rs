//! Sizes and speeds of the block codec by kind of series, on one core. `cargo bench -p fenetre-core --bench codec`

use std::hint::black_box;

use fenetre_core::{
    block::{Columns, decode, encode},
    summary::Summary,
};

mod mix;
use mix::{BLOCK, BLOCKS, KINDS, fastest};

fn main() {
    println!("| kind | bytes a point | encode, M points/s | decode into means, M points/s |");
    println!("|---|---|---|---|");
    let (mut bytes_of_mix, mut encode_of_mix, mut decode_of_mix) = (0.0, 0.0, 0.0);
    let shares: usize = KINDS.iter().map(|kind| kind.share).sum();
    for kind in &KINDS {
        let blocks = mix::blocks(kind);
        let points = (BLOCKS * BLOCK) as f64;
        let encoded: Vec<Vec<u8>> = blocks.iter().map(|block| encode(block.points())).collect();
        let bytes = encoded.iter().map(Vec::len).sum::<usize>() as f64 / points;
        let encoding = fastest(|| blocks.iter().for_each(|block| drop(black_box(encode(block.points()))))) / points;
        let mut columns = Columns::default();
        let decoding = fastest(|| {
            for block in &encoded {
                columns.clear();
                // The blocks were made above, so they are sound.
                let sound = decode(block, &mut columns).is_ok();
                black_box((sound, Summary::of(columns.points()).map(|summary| summary.mean())));
            }
        }) / points;
        println!("| {} | {bytes:.2} | {:.0} | {:.0} |", kind.name, 1e-6 / encoding, 1e-6 / decoding);
        let share = kind.share as f64 / shares as f64;
        bytes_of_mix += share * bytes;
        encode_of_mix += share * encoding;
        decode_of_mix += share * decoding;
    }
    println!("| mix | {bytes_of_mix:.2} | {:.0} | {:.0} |", 1e-6 / encode_of_mix, 1e-6 / decode_of_mix);
}
