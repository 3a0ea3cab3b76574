//! Encodings of a column of doubles, all without loss, bit for bit. Each block takes the one that comes out smallest.
//!
//! | byte | name | module | good for |
//! |---|---|---|---|
//! | 0 | constant | here | what does not change |
//! | 1 | decimal, packed | `decimal` | sensors: `n / 10^e` with small integers `n` |
//! | 2 | decimal, packed differences | `decimal` | counters, slow drifts |
//! | 3 | plain | here | anything else |
//! | 4 | runs | `runs` | states, values that stay for a while |
//! | 5 | split | `split` | full-precision doubles |
//! | 6 | decimal with patches | `decimal` | sensors with a few odd values |
//! | 7 | integers | `wide` | counters beyond 2^53 |
//! | 9, 10 | frames, of values or differences | `decimal` | the same, where they change their course |
//! | 8 | rests | `wide` | such integers beside other numbers |

mod decimal;
mod runs;
mod split;
mod wide;

use super::{BlockError, bits::Reader};

const CONSTANT: u8 = 0;
const DECIMAL: u8 = 1;
const DECIMAL_DIFFERENCES: u8 = 2;
const PLAIN: u8 = 3;
const RUNS: u8 = 4;
const SPLIT: u8 = 5;
const DECIMAL_PATCHED: u8 = 6;
const INTEGERS: u8 = 7;
const RESTS: u8 = 8;
const FRAMES: u8 = 9;
const FRAMES_OF_DIFFERENCES: u8 = 10;

/// A column in some encoding.
struct Encoded {
    encoding: u8,
    bytes: Vec<u8>,
}

/// Appends the column to `out` and says in which encoding.
pub fn encode(values: &[f64], rests: &[i16], out: &mut Vec<u8>) -> u8 {
    if rests.iter().any(|rest| *rest != 0) {
        let Encoded { encoding, bytes } = wide::encode(values, rests);
        out.extend_from_slice(&bytes);
        return encoding;
    }
    let flat = encode_flat(values);
    // Runs pay only where values stay, which a look at the neighbours tells.
    let changes = values.windows(2).filter(|pair| pair[0].to_bits() != pair[1].to_bits()).count();
    let in_runs = (flat.encoding != CONSTANT && changes < values.len() / 4).then(|| runs::encode(values));
    let best = in_runs.into_iter().chain([flat]).min_by_key(|encoded| encoded.bytes.len());
    match best {
        Some(Encoded { encoding, bytes }) => {
            out.extend_from_slice(&bytes);
            encoding
        }
        None => PLAIN,
    }
}

/// The smallest encoding other than runs.
fn encode_flat(values: &[f64]) -> Encoded {
    if let Some((first, rest)) = values.split_first()
        && rest.iter().all(|value| value.to_bits() == first.to_bits())
    {
        return Encoded { encoding: CONSTANT, bytes: first.to_le_bytes().to_vec() };
    }
    // Decimals are smaller than a split of their bits wherever there are any.
    let best = decimal::encode(values).or_else(|| split::encode(values));
    best.filter(|encoded| encoded.bytes.len() < values.len() * 8).unwrap_or_else(|| plain(values))
}

fn plain(values: &[f64]) -> Encoded {
    Encoded { encoding: PLAIN, bytes: values.iter().flat_map(|value| value.to_le_bytes()).collect() }
}

/// Appends `count` doubles to `out`, and to `rests` what is missing from them, where anything is.
pub fn decode(encoding: u8, count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>, rests: &mut Vec<i16>) -> Result<(), BlockError> {
    match encoding {
        RUNS => runs::decode(count, reader, out)?,
        INTEGERS | RESTS => {
            rests.resize(out.len(), 0);
            return if encoding == INTEGERS {
                wide::decode_integers(count, reader, out, rests)
            } else {
                wide::decode_beside(count, reader, out, rests)
            };
        }
        flat => decode_flat(flat, count, reader, out)?,
    }
    if !rests.is_empty() {
        rests.resize(out.len(), 0);
    }
    Ok(())
}

fn decode_flat(encoding: u8, count: usize, reader: &mut Reader<'_>, out: &mut Vec<f64>) -> Result<(), BlockError> {
    out.reserve(count);
    match encoding {
        CONSTANT => {
            let value = double(reader.take(8, "constant value")?);
            out.resize(out.len() + count, value);
        }
        DECIMAL | DECIMAL_DIFFERENCES | FRAMES | FRAMES_OF_DIFFERENCES => decimal::decode(encoding, count, reader, out)?,
        DECIMAL_PATCHED => decimal::decode_patched(count, reader, out)?,
        PLAIN => out.extend(reader.take(count * 8, "plain values")?.chunks_exact(8).map(double)),
        SPLIT => split::decode(count, reader, out)?,
        found => return Err(BlockError::Unknown { part: "encoding of values", found }),
    }
    Ok(())
}

/// The double of exactly eight bytes.
fn double(bytes: &[u8]) -> f64 {
    let mut word = [0; 8];
    word.copy_from_slice(bytes);
    f64::from_le_bytes(word)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn chosen(values: &[f64]) -> (u8, usize) {
        let mut bytes = Vec::new();
        let encoding = encode(values, &[], &mut bytes);
        let (mut out, mut rests) = (Vec::new(), Vec::new());
        decode(encoding, values.len(), &mut Reader::new(&bytes), &mut out, &mut rests).unwrap();
        assert!(rests.is_empty());
        assert!(out.iter().zip(values).all(|(a, b)| a.to_bits() == b.to_bits()) && out.len() == values.len());
        (encoding, bytes.len())
    }

    /// A few hundred numbers between 0 and 1 that look random, always the same.
    fn noise(count: usize) -> impl Iterator<Item = f64> {
        let mut state = 1u64;
        (0..count).map(move |_| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 11) as f64 / (1u64 << 53) as f64
        })
    }

    #[test]
    fn each_kind_of_series_finds_its_encoding() {
        let kinds: [(u8, usize, Vec<f64>); 7] = [
            (CONSTANT, 8, vec![12.6; 1_000]),
            (DECIMAL, 900, noise(1_000).map(|n| (n * 100.0 + 30_000.0).round() / 100.0).collect()),
            (DECIMAL_DIFFERENCES, 300, (0..1_000).map(|i| f64::from(i * 7 + i % 3)).collect()),
            (RUNS, 60, (0..1_000).map(|i| f64::from(i / 100 % 3)).collect()),
            (SPLIT, 7_000, noise(1_000).map(|n| 1.0 + n).collect()),
            (
                DECIMAL_PATCHED,
                1_400,
                noise(1_000).enumerate().map(|(i, n)| if i % 100 == 50 { n / 3.0 } else { (n * 200.0).round() / 10.0 }).collect(),
            ),
            (PLAIN, 8_000, noise(1_000).map(|n| f64::from_bits((n * 1.8e19) as u64)).collect()),
        ];
        for (encoding, most, values) in kinds {
            let (found, bytes) = chosen(&values);
            assert!(found == encoding && bytes <= most, "encoding {found} with {bytes} bytes, not {encoding} with {most}");
        }
    }

    #[test]
    fn single_and_special_values_round_trip() {
        let odd = [0.0, -0.0, f64::NAN, f64::INFINITY, f64::NEG_INFINITY, f64::MIN_POSITIVE, f64::MAX, 5e-324, 9_007_199_254_740_993.0];
        for value in odd {
            chosen(&[value]);
            let mut company: Vec<f64> = (0..200).map(|i| f64::from(i % 17) / 10.0).collect();
            company[77] = value;
            chosen(&company);
            chosen(&[[value; 50].as_slice(), &[1.5; 50], &[value; 50]].concat());
        }
    }
}
