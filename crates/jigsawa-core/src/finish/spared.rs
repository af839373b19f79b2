//! Where stars are, which steps must leave alone.

use super::tile::Tile;
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

/// The stars of a picture, from top to bottom.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Spared(Vec<Disc>);

impl Spared {
    /// The stars of a picture.
    pub(super) fn of(stars: &Catalogue) -> Self {
        let reach = |s: &Star| {
            let (least, most) = SPARED_REACH;
            stars
                .reach_px(s, SPARED_SIGMA, most)
                .max(least * stars.fwhm_px)
        };
        let mut discs: Vec<Disc> = stars
            .stars
            .iter()
            .map(|s| Disc {
                x: s.at.x,
                y: s.at.y,
                radius: reach(s),
            })
            .collect();
        discs.sort_by(|a, b| a.y.total_cmp(&b.y));
        Self(discs)
    }

    /// Tells where stars are: 1 within most of a disc, falling to 0 at its rim.
    pub(super) fn mark(&self, tile: &mut Tile) {
        let Some(rect) = tile.rect else { return };
        let most = self.0.iter().map(|d| d.radius).fold(0.0, f64::max);
        let first = self.0.partition_point(|d| d.y < rect.y as f64 - most);
        let near = self.0[first..]
            .iter()
            .take_while(|d| d.y <= rect.bottom() as f64 + most);
        for d in near {
            let low = |v: f64, least: i64| ((v - d.radius).ceil() as i64).max(least);
            let high = |v: f64, most: i64| ((v + d.radius).floor() as i64 + 1).min(most);
            for y in low(d.y, rect.y)..high(d.y, rect.bottom()) {
                for x in low(d.x, rect.x)..high(d.x, rect.right()) {
                    let off = (x as f64 - d.x).hypot(y as f64 - d.y) / d.radius;
                    let mark = ((1.0 - off) / 0.4).clamp(0.0, 1.0) as f32;
                    let i = (y - rect.y) as usize * rect.width + (x - rect.x) as usize;
                    tile.stars[i] = tile.stars[i].max(mark);
                }
            }
        }
    }
}
