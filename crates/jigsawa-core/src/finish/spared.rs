//! Where stars are, which steps must leave alone.

use crate::number::Convert;
use crate::space::Rect;
use crate::stars::{Catalogue, Star};

/// A star to be spared.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Disc {
    x: f64,
    y: f64,
    radius: f64,
}

/// A star is spared as far as its light stands above this part of the noise.
const SPARED_SIGMA: f64 = 12.0;

/// Stars are spared from so many widths to so many.
const SPARED_REACH: (f64, f64) = (0.8, 10.0);

/// Stars higher than this over the noise are bright, and their light reaches to so much of it.
const BRIGHT_SIGMA: f64 = 40.0;
const FAR_SIGMA: f64 = 1.5;

/// The stars of a picture, from top to bottom.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Spared(Vec<Disc>);

impl Spared {
    /// The stars of a picture.
    pub(super) fn of(stars: &Catalogue) -> Self {
        let (least, most) = SPARED_REACH;
        let reach = |s: &Star| {
            stars
                .reach_px(s, SPARED_SIGMA, most)
                .max(least * stars.fwhm_px)
        };
        Self::discs(stars.stars.iter().map(|s| (s, reach(s))))
    }

    /// The bright stars of a picture as far as their light reaches.
    pub(super) fn bright(stars: &Catalogue) -> Self {
        let noise = f64::from(stars.sky.typical_sigma());
        let bright = stars
            .stars
            .iter()
            .filter(|s| s.amplitude > BRIGHT_SIGMA * noise);
        // A rim of half a width again: what steps leave at a star's edge lies just outside of its light.
        let reach = |s: &Star| 1.5 * stars.reach_px(s, FAR_SIGMA, SPARED_REACH.1);
        Self::discs(bright.map(|s| (s, reach(s))))
    }

    fn discs<'a>(stars: impl Iterator<Item = (&'a Star, f64)>) -> Self {
        let mut discs: Vec<Disc> = stars
            .map(|(s, radius)| Disc {
                x: s.at.x,
                y: s.at.y,
                radius,
            })
            .collect();
        discs.sort_by(|a, b| a.y.total_cmp(&b.y));
        Self(discs)
    }

    /// Tells where stars are: 1 within most of a disc, falling to 0 at its rim.
    pub(super) fn mark(&self, rect: Rect, marks: &mut [f32]) {
        let most = self.0.iter().map(|d| d.radius).fold(0.0, f64::max);
        let first = self.0.partition_point(|d| d.y < rect.y.real() - most);
        let near = self.0[first..]
            .iter()
            .take_while(|d| d.y <= rect.bottom().real() + most);
        for d in near {
            let low = |v: f64, least: i64| (v - d.radius).ceil().whole().max(least);
            let high = |v: f64, most: i64| ((v + d.radius).floor().whole() + 1).min(most);
            for y in low(d.y, rect.y)..high(d.y, rect.bottom()) {
                for x in low(d.x, rect.x)..high(d.x, rect.right()) {
                    let off = (x.real() - d.x).hypot(y.real() - d.y) / d.radius;
                    let mark = ((1.0 - off) / 0.4).clamp(0.0, 1.0).single();
                    let i = (y - rect.y).index() * rect.width + (x - rect.x).index();
                    marks[i] = marks[i].max(mark);
                }
            }
        }
    }
}
