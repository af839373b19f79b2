//! Candidates found on the frame at half its size.
//!
//! Stars three pixels wide stand out as well from means of 2 x 2 pixels, at a third of the work: the
//! filter sees a quarter of the pixels. Only the looking is done there; each candidate is put on the
//! pixel of the frame where it is brightest, tested for a single bright pixel there and measured there.

use crate::binned::binned;
use crate::number::Convert;
use crate::plane::Plane;

use super::candidate::Candidate;
use super::filter::{FWHM_PER_SIGMA, MatchedFilter};
use super::find::maxima;
use super::shape::Shape;
use super::sky::SkyMesh;
use super::spike::is_spike;

/// From this width on, the means of 2 x 2 pixels cost a star less than a tenth of its height over the
/// noise: 6 % at 2.8 and 3.2 px, nothing at 5 px.
const LEAST_FWHM_PX: f64 = 2.8;

/// A smaller frame is searched in a few hundredths of a second as it is.
const LEAST_AREA: usize = 8_000_000;

/// Is a frame with stars of this width searched faster, and as well, at half its size?
pub(super) fn is_better(plane: &Plane, fwhm_px: f64) -> bool {
    fwhm_px >= LEAST_FWHM_PX && plane.size().area() >= LEAST_AREA
}

/// All candidates above `threshold` sigma for stars of this width, in row order of the smaller frame.
pub(super) fn find(
    plane: &Plane,
    sky: &SkyMesh,
    (fwhm_px, shape): (f64, Shape),
    threshold: f32,
) -> Vec<Candidate> {
    let small = binned(plane, 2);
    // A block widens a profile by its own variance, (2^2 - 1) / 12 square pixels more than a pixel does.
    let variance = (fwhm_px / FWHM_PER_SIGMA).powi(2);
    let wider = (variance + 0.25) / variance;
    let filter = MatchedFilter::shaped(fwhm_px, shape);
    let mut found = maxima(
        &small,
        &sky.halved(small.size()),
        &MatchedFilter::shaped(0.5 * fwhm_px * wider.sqrt(), shape),
        threshold,
        1,
    );
    for c in &mut found {
        (c.x, c.y) = brightest(plane, (2 * c.x, 2 * c.y));
        // The same light over more pixels is lower.
        c.amplitude *= wider.single();
    }
    found.retain(|c| !is_spike(plane, &filter, c));
    found
}

/// The pixel of a block of four whose neighbourhood of 3 x 3 holds the most light.
fn brightest(plane: &Plane, (x, y): (usize, usize)) -> (usize, usize) {
    let light = |x: usize, y: usize| {
        let near = (-1..=1).flat_map(|dy| (-1..=1).map(move |dx| (dx, dy)));
        let values = near.map(|(dx, dy)| plane.at(x.whole() + dx, y.whole() + dy));
        let (sum, count) = values
            .filter(|v| v.is_finite())
            .fold((0.0f32, 0u32), |(s, n), v| (s + v, n + 1));
        sum / count.max(1).single()
    };
    [(x, y), (x + 1, y), (x, y + 1), (x + 1, y + 1)]
        .into_iter()
        .map(|(x, y)| (light(x, y), (x, y)))
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map_or((x, y), |(_, at)| at)
}

#[cfg(test)]
mod tests {
    use super::super::find;
    use super::*;
    use crate::space::Size;
    use rstest::rstest;

    /// Stars of one width on a grid, at every phase of the pixels, and hot pixels halfway between them.
    fn sky(fwhm_px: f64) -> (Plane, Vec<(f64, f64)>) {
        let s = fwhm_px / FWHM_PER_SIGMA;
        let centre = |i: usize, j: usize| {
            let (fx, fy) = ((i * 7 % 10).real() / 10.0, (j * 3 % 10).real() / 10.0);
            (30.0 + 40.0 * i.real() + fx, 30.0 + 40.0 * j.real() + fy)
        };
        let stars: Vec<(f64, f64)> = (0..12)
            .flat_map(|j| (0..12).map(move |i| centre(i, j)))
            .collect();
        let plane = Plane::from_fn(Size::new(501, 503).unwrap(), |x, y| {
            let hash = (x as u64 * 0x9E37_79B9 + y as u64 * 0x85EB_CA6B)
                .wrapping_mul(0xC2B2_AE3D_27D4_EB4F);
            let part = |k: u32| f64::from((hash >> k).u16()) / 65_536.0 - 0.5;
            let noise = 10.0 * (part(0) + part(16) + part(32) + part(48));
            let (i, j) = ((x.max(10) - 10) / 40, (y.max(10) - 10) / 40);
            let (cx, cy) = centre(i.min(11), j.min(11));
            let d2 = (x.real() - cx).powi(2) + (y.real() - cy).powi(2);
            let hot = if x % 40 == 10 && y % 40 == 10 {
                900.0
            } else {
                0.0
            };
            (500.0 + noise + hot + 60.0 * (-0.5 * d2 / (s * s)).exp()).single()
        });
        (plane, stars)
    }

    #[rstest]
    #[case(2.8, 0.92)]
    #[case(3.2, 0.93)]
    #[case(5.0, 0.96)]
    fn the_same_stars_are_found_as_at_full_size_and_no_hot_pixel(
        #[case] fwhm_px: f64,
        #[case] least: f32,
    ) {
        let (plane, stars) = sky(fwhm_px);
        let mesh = SkyMesh::measure(&plane).unwrap();
        let whole = find::find(&plane, &mesh, &MatchedFilter::new(fwhm_px), 6.0, 1);
        let half = find(&plane, &mesh, (fwhm_px, Shape::ROUND), 6.0);
        for (found, how) in [(&whole, "whole"), (&half, "half")] {
            assert_eq!(found.len(), stars.len(), "{how}");
            for (x, y) in &stars {
                let near = |c: &&Candidate| (c.x.real() - x).hypot(c.y.real() - y) < 1.8;
                assert!(found.iter().any(|c| near(&c)), "{how}: ({x}, {y})");
            }
        }
        let mean = |found: &[Candidate], of: fn(&Candidate) -> f32| {
            found.iter().map(of).sum::<f32>() / found.len().single()
        };
        let loss = mean(&half, |c| c.snr) / mean(&whole, |c| c.snr);
        println!("{loss} of the height over the noise");
        assert!(loss > least, "{loss} of the height over the noise");
        let amplitude = mean(&half, |c| c.amplitude) / mean(&whole, |c| c.amplitude);
        assert!((0.95..1.03).contains(&amplitude), "{amplitude}");
    }
}
