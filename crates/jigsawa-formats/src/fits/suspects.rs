//! Values that may stand for no data, by a sample of a frame's rows.

use jigsawa_core::number::Convert;

/// A straight line of so many equal pixels along an edge is no chance: half of all pixels may have one value, and a
/// frame of 24 megapixels still has none by chance.
pub(super) const STRAIGHT: usize = 32;

/// A border of one or two pixels shows in this share of the sampled rows.
const OFTEN: f32 = 0.25;

/// So many pixels beside the ends of a row tell how frequent a value is there by chance; the sky farther in may be brighter.
const NEAR: usize = 256;

/// Values that are looked into.
const MOST_VALUES: usize = 3;

/// Values that may stand for no data, by some rows of a plane.
pub(super) fn suspects(sample: &[f32], width: usize) -> Vec<f32> {
    let rows = (sample.len() / width).max(1).single();
    let straight = STRAIGHT.min(width / 4).max(4);
    let mut ends: Vec<End> = Vec::new();
    for row in sample.chunks_exact(width) {
        let run = |v: f32, values: &mut dyn Iterator<Item = &f32>| {
            // What is missing already says nothing of the value beside it.
            let run = values.take_while(|x| **x == v || x.is_nan());
            run.filter(|x| **x == v).count()
        };
        let first = row.iter().find(|v| !v.is_nan());
        let last = row.iter().rev().find(|v| !v.is_nan());
        for (v, length) in [
            first.map(|v| (*v, run(*v, &mut row.iter()))),
            last.map(|v| (*v, run(*v, &mut row.iter().rev()))),
        ]
        .into_iter()
        .flatten()
        {
            if !ends.iter().any(|e| e.value == v) {
                ends.push(End {
                    value: v,
                    count: 0.0,
                    is_straight: false,
                });
            }
            for e in ends.iter_mut().filter(|e| e.value == v) {
                e.count += if length >= straight { rows } else { 1.0 };
                e.is_straight |= length >= straight;
            }
        }
    }
    ends.retain(|e| e.count > OFTEN * rows);
    ends.retain(|e| e.is_straight || !e.is_chance(sample, width));
    ends.sort_by(|a, b| b.count.total_cmp(&a.count));
    ends.truncate(MOST_VALUES);
    ends.into_iter().map(|e| e.value).collect()
}

/// A value that rows begin or end with.
struct End {
    value: f32,
    /// How many of them, a long run counting as all.
    count: f32,
    /// Is it in a long run anywhere?
    is_straight: bool,
}

impl End {
    /// Is it nearly as frequent in what lies beside the ends? Then it is one of the few values of a sky in coarse counts.
    fn is_chance(&self, sample: &[f32], width: usize) -> bool {
        let near = NEAR.min(width / 2);
        let rows = sample.chunks_exact(width);
        let beside = rows.flat_map(|row| row[..near].iter().chain(&row[width - near..]));
        let (mut there, mut alike) = (0usize, 0usize);
        for v in beside.filter(|v| !v.is_nan()) {
            there += 1;
            alike += usize::from(*v == self.value);
        }
        let ends = 2.0 * (sample.len() / width).single();
        alike.single() / there.max(1).single() > 0.5 * self.count / ends
    }
}

/// The smallest step between values of a sample: 1 for counts, next to nothing for floats.
pub(super) fn quantum(sample: &[f32]) -> f32 {
    let mut some: Vec<f32> = sample.iter().copied().filter(|v| v.is_finite()).collect();
    let stride = (some.len() / 8192).max(1);
    some = some.into_iter().step_by(stride).collect();
    some.sort_unstable_by(f32::total_cmp);
    let steps = some.windows(2).map(|w| w[1] - w[0]).filter(|d| *d > 0.0);
    let least = steps.fold(f32::INFINITY, f32::min);
    if least.is_finite() { least } else { 0.0 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_sky::chance::uniform;

    const WIDTH: usize = 3000;
    const ROWS: usize = 48;

    /// A sky in coarse counts that is brighter away from the edges, with a border of one value and so many pixels.
    fn rows(border: usize) -> Vec<f32> {
        let value = |i: usize| {
            let x = i % WIDTH;
            let beside = x.min(WIDTH - 1 - x);
            let counts = (4.0 * uniform(i as u64, 1)).floor().single();
            match beside {
                _ if beside < border => 0.0,
                0..300 => 578.0 + counts,
                _ => 620.0 + counts,
            }
        };
        (0..ROWS * WIDTH).map(value).collect()
    }

    #[test]
    fn few_values_at_the_edges_are_chance_and_a_thin_border_is_none() {
        assert!(suspects(&rows(0), WIDTH).is_empty());
        assert_eq!(suspects(&rows(1), WIDTH), [0.0]);
        assert_eq!(suspects(&rows(40), WIDTH), [0.0]);
    }
}
