//! Masters as they really come: what other stacking and other hands have made of a frame.
//!
//! Every function takes a plane and gives another, so that they can follow each other as they do in life: resampled,
//! denoised, and put on a canvas with a black border.

use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;
use rayon::prelude::*;

/// Black (exactly `fill`) outside of a rectangle that lies so many pixels inside: left, top, right, bottom.
#[must_use]
pub fn bordered(mut plane: Plane, [left, top, right, bottom]: [usize; 4], fill: f32) -> Plane {
    let (w, h) = (plane.size().width(), plane.size().height());
    for (i, v) in plane.data_mut().iter_mut().enumerate() {
        let (x, y) = (i % w, i / w);
        if x < left || y < top || x + right >= w || y + bottom >= h {
            *v = fill;
        }
    }
    plane
}

/// Black outside of a frame that was turned by this angle and moved: as long as wide as the plane, and as large.
#[must_use]
pub fn turned_border(mut plane: Plane, turn_deg: f64, shift: (f64, f64)) -> Plane {
    let (w, h) = (plane.size().width(), plane.size().height());
    let (s, c) = turn_deg.to_radians().sin_cos();
    let middle = (0.5 * (w.real() - 1.0), 0.5 * (h.real() - 1.0));
    for (i, v) in plane.data_mut().iter_mut().enumerate() {
        let (x, y) = (
            (i % w).real() - middle.0 - shift.0,
            (i / w).real() - middle.1 - shift.1,
        );
        let (u, t) = (x * c + y * s, y * c - x * s);
        if u.abs() > middle.0 || t.abs() > middle.1 {
            *v = 0.0;
        }
    }
    plane
}

/// Smoothed by a Gaussian of this width (standard deviation, pixels).
#[must_use]
pub fn smoothed(plane: &Plane, sigma_px: f64) -> Plane {
    let r = (4.0 * sigma_px).ceil().whole();
    let taps: Vec<f64> = (-r..=r)
        .map(|k| (-0.5 * (k.real() / sigma_px).powi(2)).exp())
        .collect();
    weighted(&weighted(plane, &taps, (1, 0)), &taps, (0, 1))
}

/// Shifted by a part of a pixel by a Lanczos kernel of three lobes or, as many programs do, along straight lines.
#[must_use]
pub fn resampled(plane: &Plane, (dx, dy): (f64, f64), lobes: u32) -> Plane {
    let kernel = |d: f64| {
        let x = std::f64::consts::PI * d;
        match lobes {
            0 => (1.0 - d.abs()).max(0.0),
            _ if d == 0.0 => 1.0,
            n if d.abs() >= f64::from(n) => 0.0,
            n => f64::from(n) * x.sin() * (x / f64::from(n)).sin() / (x * x),
        }
    };
    let r = i64::from(lobes.max(1));
    let taps = |shift: f64| {
        (-r..=r)
            .map(|k| kernel(k.real() - shift))
            .collect::<Vec<f64>>()
    };
    weighted(&weighted(plane, &taps(dx), (1, 0)), &taps(dy), (0, 1))
}

/// The mean along one axis under weights that begin as far before a pixel as they end behind it; the plane's edge goes
/// on beyond it.
fn weighted(plane: &Plane, taps: &[f64], (ax, ay): (i64, i64)) -> Plane {
    let r = taps.len().whole() / 2;
    let sum: f64 = taps.iter().sum();
    let (w, h) = (plane.size().width(), plane.size().height());
    let mut out = Plane::filled(plane.size(), 0.0);
    out.data_mut()
        .par_chunks_mut(w)
        .enumerate()
        .for_each(|(y, row)| {
            for (x, v) in row.iter_mut().enumerate() {
                let at = |k: i64| {
                    let px = (x.whole() + ax * k).clamp(0, w.whole() - 1);
                    let py = (y.whole() + ay * k).clamp(0, h.whole() - 1);
                    f64::from(plane.at(px, py))
                };
                let all = taps.iter().enumerate().map(|(i, t)| t * at(i.whole() - r));
                *v = (all.sum::<f64>() / sum).single();
            }
        });
    out
}

/// Denoised: what stands out of a Gaussian mean over some pixels by less than the noise is taken back to it, stars and
/// sharp structure stay.
#[must_use]
pub fn denoised(plane: &Plane, noise: f32, sigma_px: f64) -> Plane {
    let mean = smoothed(plane, sigma_px);
    let mut out = plane.clone();
    for (v, m) in out.data_mut().iter_mut().zip(mean.data()) {
        let above = *v - m;
        // Wiener's share of what is no noise, against four times the variance.
        let energy = above * above;
        *v = m + above * energy / (energy + 16.0 * noise * noise);
    }
    out
}

/// Drizzled onto pixels of half the size: each pixel of dithered frames drops its light, shrunk to `drop` of its side,
/// onto what lies below (Fruchter & Hook 2002, PASP 114, 144). `dithers` says where each frame's first pixel lies, in
/// pixels of the frames. Places that nothing fell on are missing.
#[must_use]
pub fn drizzled(frames: &[(Plane, (f64, f64))], drop: f64) -> Plane {
    let first = frames[0].0.size();
    let size = Size::new(2 * first.width(), 2 * first.height())
        .unwrap_or_else(|| unreachable!("twice a frame is one"));
    let (w, h) = (size.width(), size.height());
    let (mut sum, mut weight) = (vec![0.0f64; w * h], vec![0.0f64; w * h]);
    // The parts of a drop's side that fall on the fine pixels from the first on.
    let parts = |centre: f64| {
        let (a, b) = (2.0 * (centre + 0.5) - drop, 2.0 * (centre + 0.5) + drop);
        let from = a.floor().whole();
        (from..=b.floor().whole()).map(move |i| {
            let inside = (b.min(i.real() + 1.0) - a.max(i.real())).max(0.0);
            (i, inside)
        })
    };
    for (plane, (dx, dy)) in frames {
        for y in 0..plane.size().height() {
            for x in 0..plane.size().width() {
                let v = f64::from(plane.at(x.whole(), y.whole()));
                for (j, py) in parts(y.real() + dy) {
                    for (i, px) in parts(x.real() + dx) {
                        let inside = i >= 0 && j >= 0 && i < w.whole() && j < h.whole();
                        if inside && px * py > 0.0 {
                            let at = j.index() * w + i.index();
                            sum[at] += px * py * v;
                            weight[at] += px * py;
                        }
                    }
                }
            }
        }
    }
    let data = sum
        .iter()
        .zip(&weight)
        .map(|(s, w)| (s / w).single())
        .collect();
    Plane::new(size, data).unwrap_or_else(|| Plane::filled(size, f32::NAN))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plane() -> Plane {
        Plane::from_fn(Size::new(60, 40).unwrap(), |x, y| {
            100.0 + (crate::noise::hash(x.whole(), y.whole(), 3).single() - 0.5)
        })
    }

    fn mean(p: &Plane) -> f64 {
        let known: Vec<f64> = p
            .data()
            .iter()
            .filter(|v| v.is_finite())
            .map(|v| f64::from(*v))
            .collect();
        known.iter().sum::<f64>() / known.len().real()
    }

    #[test]
    fn light_stays_through_every_hand() {
        let p = plane();
        let still = (p.clone(), (0.0, 0.0));
        for out in [
            smoothed(&p, 1.4),
            resampled(&p, (0.3, 0.4), 3),
            resampled(&p, (0.5, 0.5), 0),
            denoised(&p, 0.3, 1.5),
            drizzled(
                &[still, (p.clone(), (0.5, 0.0)), (p.clone(), (0.0, 0.5))],
                0.8,
            ),
        ] {
            assert!((mean(&out) - 100.0).abs() < 0.05, "{}", mean(&out));
        }
        let black = bordered(p.clone(), [3, 0, 2, 5], 0.0);
        assert_eq!(
            black.data().iter().filter(|v| **v == 0.0).count(),
            60 * 40 - 55 * 35
        );
        let turned = turned_border(p, 4.0, (2.0, 0.0));
        assert!(turned.at(0, 0) == 0.0 && turned.at(30, 20) > 90.0);
    }

    #[test]
    fn smoothing_ties_neighbours_together() {
        let s = smoothed(&plane(), 1.0);
        let spread = |p: &Plane| {
            p.data()
                .iter()
                .map(|v| (f64::from(*v) - 100.0).powi(2))
                .sum::<f64>()
        };
        // 1 / (4 pi sigma^2) of the variance.
        assert!((spread(&plane()) / spread(&s) / 12.57 - 1.0).abs() < 0.2);
    }
}
