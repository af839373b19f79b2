//! A channel brought to its sky and its white: what is taken off, and what is multiplied.

use crate::number::Convert;
use rayon::prelude::*;

use super::neutral::ChannelSky;
use super::overview::Sources;
use super::range::RangeCompression;
use crate::doors::DoorError;
use crate::space::{Point, Rect};

/// The sky and the gain of a channel.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Level {
    pub(super) sky: ChannelSky,
    /// What is taken off where the sky is not made neutral.
    pub(super) common: f32,
    pub(super) gain: f32,
}

/// About this many pixels tell the levels of the picture.
const SAMPLE: usize = 250_000;

/// Pixels from all over a rectangle, above the sky, white, and held back by range compression.
pub(super) fn sample(
    sources: Sources<'_>,
    rect: Rect,
    levels: &[Level; 3],
    factor: usize,
    range: Option<&RangeCompression>,
) -> Result<Vec<[f32; 3]>, DoorError> {
    let step = (rect.area().real() / SAMPLE.real()).sqrt().index().max(1);
    let lines: Vec<usize> = (step / 2..rect.height).step_by(step).collect();
    let rows: Vec<Vec<[f32; 3]>> = lines
        .par_iter()
        .map_init(
            || {
                (
                    std::array::from_fn(|_| vec![0.0; rect.width]),
                    vec![1.0; rect.width],
                )
            },
            |(rows, factors): &mut ([Vec<f32>; 3], Vec<f32>),
             y|
             -> Result<Vec<[f32; 3]>, DoorError> {
                let line = Rect {
                    y: rect.y + (*y).whole(),
                    height: 1,
                    ..rect
                };
                for ((source, row), l) in sources.iter().zip(rows.iter_mut()).zip(levels) {
                    source.read(line, row)?;
                    subtract(&l.sky, factor, line, row);
                }
                if let Some(range) = range {
                    range.row(line.x, line.y, factors);
                }
                let pixel = |x: usize| {
                    std::array::from_fn(|c| {
                        factors[x] * levels[c].gain * (rows[c][x] - levels[c].common)
                    })
                };
                Ok((step / 2..rect.width).step_by(step).map(pixel).collect())
            },
        )
        .collect::<Result<_, _>>()?;
    Ok(rows.into_iter().flatten().collect())
}

/// Distance of the places where a gradient is worked out; it is straight in between.
const KNOT: usize = 16;

/// Takes a channel's gradient off a piece of the picture.
pub(super) fn subtract(sky: &ChannelSky, factor: usize, rect: Rect, plane: &mut [f32]) {
    if sky.gradient.is_zero() {
        return;
    }
    let k = factor.real();
    let at = |x: i64, y: i64| {
        let p = Point::new((x.real() + 0.5) / k - 0.5, (y.real() + 0.5) / k - 0.5);
        sky.gradient.at(p).single()
    };
    // Knots stand at multiples of their distance, so that every piece sees the same ones.
    let step = KNOT.whole();
    let knots =
        |from: i64, n: usize| from.div_euclid(step)..=(from + n.whole() - 1).div_euclid(step) + 1;
    let columns: Vec<i64> = knots(rect.x, rect.width).map(|c| c * step).collect();
    let line = |row: i64| -> Vec<f32> { columns.iter().map(|x| at(*x, row * step)).collect() };
    let mut row = rect.y.div_euclid(step);
    let (mut up, mut down) = (line(row), line(row + 1));
    let mut mid = Vec::with_capacity(columns.len());
    for (j, out) in plane.chunks_exact_mut(rect.width).enumerate() {
        let y = rect.y + j.whole();
        if y.div_euclid(step) > row {
            row += 1;
            up = std::mem::replace(&mut down, line(row + 1));
        }
        let t = (y - row * step).single() / step.single();
        mid.clear();
        mid.extend(up.iter().zip(&down).map(|(a, b)| a + t * (b - a)));
        take_off(&mid, (rect.x - columns[0]).index(), out);
    }
}

/// Takes values off a row that are straight between knots; the row begins `from` pixels after the first.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn take_off(knots: &[f32], from: usize, row: &mut [f32]) {
    let parts: [f32; KNOT] = std::array::from_fn(|i| i.single() / KNOT.single());
    let (first, rest) = row.split_at_mut((KNOT - from).min(row.len()));
    let take = |knot: usize, parts: &[f32], some: &mut [f32]| {
        let (a, rise) = (knots[knot], knots[knot + 1] - knots[knot]);
        for (v, s) in some.iter_mut().zip(parts) {
            *v -= a + s * rise;
        }
    };
    take(0, &parts[from..], first);
    for (k, some) in rest.chunks_mut(KNOT).enumerate() {
        take(k + 1, &parts, some);
    }
}
