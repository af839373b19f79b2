//! Quantised floats back: value = scale x (number - noise + 1/2) + zero, with the noise that was added before they were
//! rounded (White & Greenfield 1999; FITS 4.0 §10.2.2 and appendix I).

use jigsawa_core::number::Convert;
use std::sync::LazyLock;

/// Numbers of the sequence.
const COUNT: usize = 10_000;

/// Where a row of tiles begins in it, in parts of the first number.
const SPREAD: f32 = 500.0;

/// The sequence that the standard gives: every program has the same.
static NOISE: LazyLock<Vec<f32>> = LazyLock::new(|| {
    let (a, m) = (16_807.0f64, 2_147_483_647.0f64);
    let mut seed = 1.0f64;
    (0..COUNT)
        .map(|_| {
            let next = a * seed;
            seed = next - m * (next / m).floor();
            (seed / m).single()
        })
        .collect()
});

/// The noise of a tile, pixel by pixel.
pub(super) struct Noise {
    row: usize,
    at: usize,
}

impl Noise {
    /// Of the tile of this number (from 0) in an image of this seed (from 1).
    pub(super) fn new(tile: usize, seed: usize) -> Self {
        let row = (tile + seed.saturating_sub(1)) % COUNT;
        Self {
            row,
            at: begins(row),
        }
    }

    /// The next pixel's.
    pub(super) fn next(&mut self) -> f64 {
        let noise = f64::from(NOISE[self.at]);
        self.at += 1;
        if self.at == COUNT {
            self.row = (self.row + 1) % COUNT;
            self.at = begins(self.row);
        }
        noise
    }
}

fn begins(row: usize) -> usize {
    (NOISE[row] * SPREAD).index()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sequence_ends_where_the_standard_says() {
        // The seed after ten thousand steps is 1043618065.
        let last = f64::from(NOISE[COUNT - 1]);
        assert!((last - 1_043_618_065.0 / 2_147_483_647.0).abs() < 1e-7);
    }
}
