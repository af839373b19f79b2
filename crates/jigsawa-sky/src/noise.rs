//! Smooth noise over the plane: the stuff that clouds are made of.

use jigsawa_core::number::Convert;
use std::cell::RefCell;

/// A number in 0..1 that two whole numbers and a seed fix.
pub(crate) fn hash(x: i64, y: i64, seed: u64) -> f64 {
    // SplitMix64's finaliser (Steele, Lea & Flood 2014) over a mix of the inputs.
    let mut z = x
        .u64()
        .wrapping_mul(0x9E37_79B9_7F4A_7C15)
        .wrapping_add(y.u64().wrapping_mul(0xC2B2_AE3D_27D4_EB4F))
        .wrapping_add(seed.wrapping_mul(0x1656_67B1_9E37_79F9));
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    ((z ^ (z >> 31)) >> 11).real() / (1u64 << 53).real()
}

/// Directions that were asked for last, by their numbers: neighbours on the plane ask for the same ones. Sines and
/// cosines were a quarter of the time of the demo's masters.
const REMEMBERED: usize = 4096;

thread_local! {
    static DIRECTIONS: RefCell<Vec<(u64, (f64, f64))>> =
        RefCell::new(vec![(u64::MAX, (0.0, 0.0)); REMEMBERED]);
}

/// Cosine and sine of a part of the full turn.
fn direction(turn: f64) -> (f64, f64) {
    let key = turn.to_bits();
    DIRECTIONS.with_borrow_mut(|known| {
        // Numbers of 53 random bits: any few of them tell places apart.
        let slot = &mut known[(turn * REMEMBERED.real()).index() % REMEMBERED];
        if slot.0 != key {
            let angle = turn * std::f64::consts::TAU;
            *slot = (key, (angle.cos(), angle.sin()));
        }
        slot.1
    })
}

/// Gradient noise (Perlin 2002, ACM TOG 21, 681), about -1..1, features one unit wide.
fn gradient(x: f64, y: f64, seed: u64) -> f64 {
    let (x0, y0) = (x.floor(), y.floor());
    let (fx, fy) = (x - x0, y - y0);
    let fade = |t: f64| t * t * t * (t * (t * 6.0 - 15.0) + 10.0);
    let corner = |dx: i64, dy: i64| {
        let (cos, sin) = direction(hash(x0.whole() + dx, y0.whole() + dy, seed));
        cos * (fx - dx.real()) + sin * (fy - dy.real())
    };
    let (u, v) = (fade(fx), fade(fy));
    let top = corner(0, 0) + u * (corner(1, 0) - corner(0, 0));
    let low = corner(0, 1) + u * (corner(1, 1) - corner(0, 1));
    1.5 * (top + v * (low - top))
}

/// Sum of `octaves` of gradient noise, each twice as fine and half as strong: about -1..1.
pub(crate) fn billows(x: f64, y: f64, octaves: u32, seed: u64) -> f64 {
    octave_sum(x, y, octaves, seed, |n| n)
}

/// As [`billows`], but with sharp crests, like folds of a curtain: about 0..1.
pub(crate) fn ridges(x: f64, y: f64, octaves: u32, seed: u64) -> f64 {
    octave_sum(x, y, octaves, seed, |n| {
        let crest = 1.0 - n.abs();
        crest * crest
    })
}

fn octave_sum(x: f64, y: f64, octaves: u32, seed: u64, shape: fn(f64) -> f64) -> f64 {
    // Each octave is turned, so that the lattice does not show.
    let (s, c) = 0.6f64.sin_cos();
    let (mut x, mut y, mut weight) = (x, y, 0.5);
    let (mut sum, mut total) = (0.0, 0.0);
    for i in 0..octaves {
        sum += weight * shape(gradient(x, y, seed.wrapping_add(u64::from(i) * 101)));
        total += weight;
        (x, y) = (2.0 * (c * x - s * y) + 17.3, 2.0 * (s * x + c * y) - 9.1);
        weight *= 0.5;
    }
    sum / total
}

/// 0 below `from`, 1 above `to`, smooth between.
pub(crate) fn step(from: f64, to: f64, x: f64) -> f64 {
    let t = ((x - from) / (to - from)).clamp(0.0, 1.0);
    t * t * (3.0 - 2.0 * t)
}

/// A bell of height 1 and this half width.
pub(crate) fn bell(x: f64, width: f64) -> f64 {
    (-(x / width) * (x / width)).exp()
}
