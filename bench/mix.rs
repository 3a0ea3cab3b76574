//! The standard mix of the benchmarks in Rust: kinds of series and their shares, made up from a seed.
//!
//! Of 20 series, 6 are levels (2 decimals), 4 temperatures (1 decimal), 4 flows (3 decimals, jittered times), 3 counters with resets, 2 states and 1
//! full-precision random walk.

use std::time::Instant;

use fenetre_core::block::Columns;

/// Points of a block.
pub const BLOCK: usize = 1_024;
pub const BLOCKS: usize = 200;
const ROUNDS: usize = 25;
pub const STEP_MS: i64 = 82_000;

/// Numbers that look random, always the same: a linear congruence, its high bits.
struct Noise(u64);

impl Noise {
    fn unit(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Roughly normal: the sum of twelve uniform numbers.
    fn normal(&mut self, deviation: f64) -> f64 {
        ((0..12).map(|_| self.unit()).sum::<f64>() - 6.0) * deviation
    }
}

fn decimals(value: f64, count: i32) -> f64 {
    let scale = 10f64.powi(count);
    (value * scale).round() / scale
}

pub struct Kind {
    pub name: &'static str,
    pub share: usize,
    /// Milliseconds by which times waver.
    jitter: i64,
    next: fn(&mut Noise, &mut f64, usize) -> f64,
}

pub const KINDS: [Kind; 6] = [
    Kind {
        name: "level, 2 decimals",
        share: 6,
        jitter: 0,
        next: |noise, walk, _| {
            *walk += noise.normal(0.002);
            decimals(3.0 + *walk + noise.normal(0.01), 2)
        },
    },
    Kind {
        name: "temperature, 1 decimal",
        share: 4,
        jitter: 0,
        next: |noise, walk, i| {
            *walk += noise.normal(0.01);
            let day = (i as f64 * STEP_MS as f64 / 86_400_000.0).fract();
            decimals(12.0 + 5.0 * (std::f64::consts::TAU * day).sin() + *walk + noise.normal(0.05), 1)
        },
    },
    Kind {
        name: "flow, 3 decimals, jittered",
        share: 4,
        jitter: 50,
        next: |noise, walk, _| {
            *walk += noise.normal(0.004);
            decimals(15.0 + 8.0 * walk.sin() + noise.normal(0.15), 3)
        },
    },
    Kind {
        name: "counter with resets",
        share: 3,
        jitter: 0,
        next: |noise, total, _| {
            *total = if noise.unit() < 1.0 / 5_000.0 { 0.0 } else { *total + (100.0 * (0.7 + 0.6 * noise.unit())).floor() };
            *total
        },
    },
    Kind {
        name: "state",
        share: 2,
        jitter: 0,
        next: |noise, state, _| {
            if noise.unit() < 1.0 / 500.0 {
                *state = (noise.unit() * 3.0).floor();
            }
            *state
        },
    },
    Kind {
        name: "full-precision walk",
        share: 1,
        jitter: 0,
        next: |noise, walk, _| {
            *walk += noise.normal(1.0);
            *walk
        },
    },
];

pub fn blocks(kind: &Kind) -> Vec<Columns> {
    let (mut noise, mut walk, mut at) = (Noise(7), 0.0, 1_760_054_400_000);
    let mut point = |i: usize| {
        at += STEP_MS;
        let wavered = at + (noise.unit() * (2 * kind.jitter + 1) as f64) as i64 - kind.jitter;
        (wavered * 1_000_000, (kind.next)(&mut noise, &mut walk, i))
    };
    (0..BLOCKS)
        .map(|block| {
            let mut columns = Columns::default();
            (0..BLOCK).map(|i| point(block * BLOCK + i)).for_each(|(time, value)| columns.push(time, value, 0));
            columns
        })
        .collect()
}

/// Seconds of the fastest of some rounds.
pub fn fastest(mut work: impl FnMut()) -> f64 {
    let round = |_| {
        let start = Instant::now();
        work();
        start.elapsed().as_secs_f64()
    };
    (0..ROUNDS).map(round).fold(f64::INFINITY, f64::min)
}
