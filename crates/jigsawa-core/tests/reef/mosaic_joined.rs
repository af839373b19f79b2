//! Twelve panels joined, held against the same sky without noise.

use jigsawa_core::mosaic::blend::Share;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::median;
use jigsawa_core::space::{CanvasPx, Point};
use jigsawa_core::stars::{Settings, detect};
use std::collections::BTreeMap;

use crate::mosaic_made::{Mosaic, by_seams, mosaic};

/// Its first pixel, and its medians in mosaic and truth.
type Square = (usize, usize, f64, f64);

/// Medians of squares of `side` pixels that are covered wholly, of mosaic and truth, with their first pixels.
fn squares(m: &Mosaic, side: usize) -> Vec<Square> {
    let size = m.joined.size();
    let of = |p: &Plane, x: usize, y: usize| -> Vec<f32> {
        (y..y + side)
            .flat_map(|r| p.row(r)[x..x + side].to_vec())
            .collect()
    };
    let mut all = Vec::new();
    for y in (0..size.height() - side).step_by(side) {
        for x in (0..size.width() - side).step_by(side) {
            let (mut a, mut b) = (of(&m.joined, x, y), of(&m.truth, x, y));
            if a.iter().all(|v| v.is_finite()) {
                all.push((x, y, f64::from(median(&mut a)), f64::from(median(&mut b))));
            }
        }
    }
    all
}

/// What makes the truth the mosaic: one scale and one constant.
fn scale_and_constant(squares: &[Square]) -> (f64, f64) {
    let n = squares.len().real();
    let mean = |of: &dyn Fn(&Square) -> f64| squares.iter().map(of).sum::<f64>() / n;
    let (a, b) = (mean(&|s| s.2), mean(&|s| s.3));
    let k = mean(&|s| (s.2 - a) * (s.3 - b)) / mean(&|s| (s.3 - b).powi(2));
    (k, a - k * b)
}

#[test]
fn scales_are_the_transparencies_to_a_percent_and_within_their_errors() {
    let m = by_seams();
    let anchor = m.levelled.anchor;
    for (k, b) in m.levelled.balances.iter().enumerate() {
        let want = m.transparencies[anchor] / m.transparencies[k];
        let off = b.scale.value / want - 1.0;
        let sigma = b.scale.sigma / b.scale.value;
        assert!(
            off.abs() < 0.01 && off.abs() < 4.0 * sigma.max(0.001),
            "panel {k}: {off:+.4} of {want:.3}, told {sigma:.4}"
        );
    }
}

#[test]
fn the_whole_field_is_true_to_a_percent_of_the_nebulas_range() {
    let m = by_seams();
    let s = squares(m, 20);
    assert!(s.len() > 4000, "{}", s.len());
    let (k, c) = scale_and_constant(&s);
    let mut light: Vec<f64> = s.iter().map(|s| k * s.3).collect();
    light.sort_by(f64::total_cmp);
    let range = light[light.len() * 99 / 100] - light[light.len() / 100];
    let mut off: Vec<f64> = s.iter().map(|s| (s.2 - k * s.3 - c).abs()).collect();
    let rms = (off.iter().map(|o| o * o).sum::<f64>() / off.len().real()).sqrt();
    off.sort_by(f64::total_cmp);
    let worst = off[off.len() * 99 / 100];
    println!(
        "range {range:.1}, rms {:.2} %, 99th percentile {:.2} %, degree {}",
        100.0 * rms / range,
        100.0 * worst / range,
        m.levelled.degree
    );
    assert!(rms < 0.01 * range, "{rms} of {range}");
    assert!(worst < 0.03 * range, "{worst} of {range}");
}

#[test]
fn no_seam_has_a_step_of_a_fifth_of_the_noise() {
    let m = by_seams();
    let s = squares(m, 20);
    let (k, c) = scale_and_constant(&s);
    let off = |x: usize, y: usize| -> Option<(f64, f64)> {
        // The median over 16 x 16 pixels, which stars do not change, and the sky's own light there. The overlaps are as
        // narrow here against 16 pixels as those of 24 megapixels are against 100.
        let size = m.joined.size();
        if x < 8 || y < 8 || x + 8 > size.width() || y + 8 > size.height() {
            return None;
        }
        let (mut v, mut light) = (Vec::with_capacity(256), Vec::with_capacity(256));
        for r in y - 8..y + 8 {
            for q in x - 8..x + 8 {
                let (a, b) = (m.joined.row(r)[q], m.truth.row(r)[q]);
                v.push((f64::from(a) - k * f64::from(b) - c).single());
                light.push(b);
            }
        }
        let whole = v.iter().all(|v| v.is_finite());
        whole.then(|| (f64::from(median(&mut v)), f64::from(median(&mut light))))
    };
    let mut by_seam: BTreeMap<(u8, u8), Vec<(f64, f64)>> = BTreeMap::new();
    let cells = m.cells;
    for r in 1..cells.rows - 1 {
        for q in 1..cells.columns - 1 {
            let here = m.labels[r * cells.columns + q];
            for (dq, dr) in [(1usize, 0usize), (0, 1)] {
                let there = m.labels[(r + dr) * cells.columns + q + dq];
                if here == 0 || there == 0 || here == there || (q + r) % 3 != 0 {
                    continue;
                }
                let (x, y) = (q * cells.side, r * cells.side);
                // Boxes before and behind the seam, and one further on each side: a step is what is more than the
                // slope that was there anyway.
                let at = |k: i64| {
                    let (x, y) = (x.whole() + k * dq.whole(), y.whole() + k * dr.whole());
                    (x > 0 && y > 0)
                        .then(|| off(x.index(), y.index()))
                        .flatten()
                };
                if let (Some(a0), Some(a), Some(b), Some(b1)) = (at(-24), at(-8), at(10), at(26)) {
                    let sign = if here < there { 1.0 } else { -1.0 };
                    let step = |of: fn((f64, f64)) -> f64| {
                        (of(b) - of(a)) - 0.5 * ((of(a) - of(a0)) + (of(b1) - of(b)))
                    };
                    by_seam
                        .entry((here.min(there), here.max(there)))
                        .or_default()
                        .push((
                            sign * step(|v| v.0) / m.noise,
                            sign * step(|v| v.1) / m.noise,
                        ));
                }
            }
        }
    }
    assert!(by_seam.len() >= 17, "{} seams", by_seam.len());
    let mut worst = 0.0f64;
    for (pair, steps) in by_seam.iter().filter(|(_, s)| s.len() > 5) {
        // What the nebula's own steps explain, with a scale that is a little off all over, is no seam.
        let slope = steps.iter().map(|s| s.0 * s.1).sum::<f64>()
            / steps.iter().map(|s| s.1 * s.1).sum::<f64>();
        let slope = slope.clamp(-0.01 / m.noise, 0.01 / m.noise);
        let mean = steps.iter().map(|s| s.0 - slope * s.1).sum::<f64>() / steps.len().real();
        worst = worst.max(mean.abs());
        assert!(
            mean.abs() < 0.2,
            "seam {pair:?}: {mean:.3} sigma over {} places",
            steps.len()
        );
    }
    println!("largest mean step of a seam {worst:.3} sigma");
}

#[test]
fn stars_near_seams_are_as_bright_as_elsewhere_and_none_is_doubled() {
    let m = by_seams();
    let settings = Settings {
        most: 6000,
        ..Settings::default()
    };
    let (a, b) = (
        detect(&m.joined, Some(50_000.0), &settings).unwrap(),
        detect(&m.truth, Some(50_000.0), &settings).unwrap(),
    );
    let cells = m.cells;
    let seam_near = |x: f64, y: f64| {
        let (c, r) = (
            (x / cells.side.real()).whole(),
            (y / cells.side.real()).whole(),
        );
        let label = |c: i64, r: i64| {
            let inside = c >= 0 && r >= 0 && c < cells.columns.whole() && r < cells.rows.whole();
            if inside {
                m.labels[r.index() * cells.columns + c.index()]
            } else {
                0
            }
        };
        let own = label(c, r);
        (-3..=3).any(|i| (-3..=3).any(|j| label(c + i, r + j) != own && label(c + i, r + j) != 0))
    };
    // Signal to noise and ratio to the truth.
    let mut near: Vec<(f64, f32)> = Vec::new();
    let mut far: Vec<(f64, f32)> = Vec::new();
    let (mut all, mut strange) = ([0usize; 2], [0usize; 2]);
    for star in a.clean().filter(|s| s.flux > 15.0 * s.flux_sigma) {
        let others = b.stars.iter().filter(|t| t.at.distance(star.at) < 1.2);
        let is_near = seam_near(star.at.x, star.at.y);
        all[usize::from(is_near)] += 1;
        let of_sky = |q: &&Point<CanvasPx>| q.distance(Point::new(star.at.x, star.at.y)) < 2.0;
        strange[usize::from(is_near)] += usize::from(m.sky.iter().find(of_sky).is_none());
        let Some(t) =
            others.min_by(|p, q| p.at.distance(star.at).total_cmp(&q.at.distance(star.at)))
        else {
            continue;
        };
        if t.flags.is_clean() {
            let ratio = (star.flux / t.flux).single();
            let list = if is_near { &mut near } else { &mut far };
            list.push((star.flux / star.flux_sigma, ratio));
        }
    }
    assert!(
        near.len() > 60 && far.len() > 1000,
        "{} near, {} far",
        near.len(),
        far.len()
    );
    // Each star against those of its own brightness: with noise around, a faint star's sky is a little too high.
    far.sort_by(|p, q| p.0.total_cmp(&q.0));
    let alike = |snr: f64| {
        let at = far.partition_point(|f| f.0 < snr).clamp(40, far.len() - 40);
        let mut some: Vec<f32> = far[at - 40..at + 40].iter().map(|f| f.1).collect();
        f64::from(median(&mut some))
    };
    let (mut sum, mut weights, mut dimmed) = (0.0, 0.0, 0);
    for (snr, ratio) in &near {
        let off = f64::from(*ratio) / alike(*snr) - 1.0;
        let error = 0.015f64.hypot(1.0 / snr);
        sum += off / (error * error);
        weights += 1.0 / (error * error);
        dimmed += usize::from(off.abs() > 5.0 * error);
    }
    let off = sum / weights;
    println!(
        "{} stars near seams: {:+.2} % +- {:.2} against others",
        near.len(),
        100.0 * off,
        100.0 / weights.sqrt()
    );
    assert!(off.abs() < 0.01, "{off}");
    assert!(dimmed * 40 <= near.len(), "{dimmed} of {}", near.len());
    println!(
        "stars that the sky does not have: {strange:?} of {all:?} (far from seams, near them)"
    );
    // A close pair may be seen as one between both.
    assert!(strange[1] * 50 <= all[1], "{strange:?} of {all:?}");
}

#[test]
fn a_mean_of_the_overlaps_has_less_noise_there_and_the_same_stars() {
    let m = mosaic(Share::Average);
    let s = squares(&m, 20);
    let (k, c) = scale_and_constant(&s);
    let rms = (s.iter().map(|s| (s.2 - k * s.3 - c).powi(2)).sum::<f64>() / s.len().real()).sqrt();
    let seams = by_seams();
    let t = squares(seams, 20);
    let (k2, c2) = scale_and_constant(&t);
    let other =
        (t.iter().map(|s| (s.2 - k2 * s.3 - c2).powi(2)).sum::<f64>() / t.len().real()).sqrt();
    assert!(rms < 1.2 * other, "{rms} against {other}");
    assert!((k / k2 - 1.0).abs() < 0.005);
    // Where two panels show a place, the mean has less noise than either.
    let scatter = |p: &Plane, x: usize, y: usize| {
        let mut d: Vec<f32> = (y..y + 20)
            .flat_map(|r| {
                p.row(r)[x..x + 21]
                    .windows(2)
                    .map(|w| (w[0] - w[1]).abs())
                    .collect::<Vec<_>>()
            })
            .collect();
        f64::from(median(&mut d))
    };
    let mut quieter = 0;
    let mut of = 0;
    for (x, y, ..) in &t {
        let cell = |v: usize| (v + 10) / seams.cells.side;
        let shown = seams.levelled.overlaps.iter().any(|o| {
            o.patches.iter().any(|p| {
                (p.at.x - (*x).real() - 10.0).abs() < 6.0
                    && (p.at.y - (*y).real() - 10.0).abs() < 6.0
            })
        });
        if shown && cell(*x) > 0 && x + 21 < m.joined.size().width() {
            of += 1;
            quieter += usize::from(scatter(&m.joined, *x, *y) < scatter(&seams.joined, *x, *y));
        }
    }
    assert!(of > 100 && quieter * 10 > of * 8, "{quieter} of {of}");
}
