//! How much of a dark's current a light has: measured on the hot pixels of the light itself.
//!
//! Each hot pixel of the dark stands out of the pixels around it by what it has too much; in the light it stands out by
//! the same in another part, whatever sky or nebula lies there. The ratio of both, over all hot pixels, is the factor:
//! stars that lie beside one are outliers, and do not count.

use super::defects::{Standing, standing_out, usual_standing};
use super::{RING, around};
use crate::doors::{DoorError, FrameSource};
use crate::measured::Measured;
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::Rect;

/// A hot pixel tells something from so many usual widths on.
const TELLS_SIGMA: f32 = 12.0;

/// So many of them at the most, and at the least.
const MOST: usize = 3000;
const LEAST: usize = 25;

/// Hot pixels of a dark and what each has too much.
#[derive(Debug, Clone, PartialEq)]
pub struct HotPixels(Vec<Standing>);

impl HotPixels {
    /// Those of a dark, which are not full: `full` is the value of one that is.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn of(dark: &dyn FrameSource, full: f32) -> Result<Self, DoorError> {
        let bar = TELLS_SIGMA * usual_standing(dark)?;
        let mut all = standing_out(dark, |_| bar)?;
        all.retain(|s| s.over > 0.0 && s.around + s.over < 0.8 * full);
        // The hottest tell most.
        all.sort_by(|a, b| b.over.total_cmp(&a.over).then(a.at.cmp(&b.at)));
        all.truncate(MOST);
        Ok(Self(all))
    }

    /// The part of the dark's current that a light has. `None` where too few hot pixels tell.
    ///
    /// # Errors
    /// When the light cannot be read.
    pub fn factor(
        &self,
        light: &dyn FrameSource,
        full: f32,
    ) -> Result<Option<Measured>, DoorError> {
        let mut pairs: Vec<(f64, f64)> = Vec::new();
        for s in &self.0 {
            if let Some(over) = stands(light, s.at, full)? {
                pairs.push((f64::from(s.over), f64::from(over)));
            }
        }
        Ok(slope(&pairs))
    }
}

/// What a pixel of a light has over those around it; `None` at the edge and where one is full.
fn stands(
    light: &dyn FrameSource,
    (x, y): (usize, usize),
    full: f32,
) -> Result<Option<f32>, DoorError> {
    let rect = Rect {
        x: x.whole() - 2,
        y: y.whole() - 2,
        width: 5,
        height: 5,
    };
    if rect.intersect(light.size().rect()) != rect {
        return Ok(None);
    }
    let mut pixels = [0.0f32; 25];
    light.read(rect, &mut pixels)?;
    let at = |dx: i64, dy: i64| pixels[((dy + 2) * 5 + dx + 2).index()];
    let is_full = RING.iter().any(|(dx, dy)| at(*dx, *dy) >= full) || at(0, 0) >= full;
    let over = at(0, 0) - around(at);
    Ok((over.is_finite() && !is_full).then_some(over))
}

/// The slope through the origin of pairs (of the dark, of the light), without those that stand far off it. Residuals have a part
/// that is alike for all, the noise of sky and camera, and one that grows with the current, its own photon noise: what the
/// hottest pixels tell counts for that much less.
fn slope(pairs: &[(f64, f64)]) -> Option<Measured> {
    if pairs.len() < LEAST {
        return None;
    }
    let mut ratios: Vec<f32> = pairs.iter().map(|(d, l)| (l / d).single()).collect();
    let mut found = Measured {
        value: f64::from(median(&mut ratios)),
        sigma: 0.0,
    };
    for _ in 0..ROUNDS {
        let spread = Spread::of(pairs, found.value)?;
        let (mut up, mut low, mut sigma2) = (0.0, 0.0, 0.0);
        for (d, l) in pairs {
            let variance = spread.variance(*d);
            let off = (l - found.value * d) / variance.sqrt();
            if off.abs() < FAR {
                up += d * l / variance;
                low += d * d / variance;
                sigma2 += d * d / variance;
            }
        }
        if low <= 0.0 {
            return None;
        }
        let before = found.value;
        found = Measured {
            value: up / low,
            sigma: sigma2.sqrt() / low,
        };
        if (found.value - before).abs() < 1e-4 * found.sigma {
            break;
        }
    }
    Some(found)
}

/// Pairs farther off, in widths, have a star beside the hot pixel. No weight falls off before: photons scatter farther up than
/// down, and holding the far ones down would take from the slope.
const FAR: f64 = 4.0;

/// Rounds of weights at most: they settle after a handful.
const ROUNDS: usize = 20;

/// What pairs scatter by around their slope.
struct Spread {
    /// Variance of the faintest.
    of_all: f64,
    /// And for a unit of current.
    of_current: f64,
}

impl Spread {
    /// By the scatter of the fainter half, and what the brighter one has more. `None` where there is none at all.
    fn of(pairs: &[(f64, f64)], k: f64) -> Option<Self> {
        let mut by_current: Vec<&(f64, f64)> = pairs.iter().collect();
        by_current.sort_by(|a, b| a.0.total_cmp(&b.0));
        let half = |part: &[&(f64, f64)]| {
            let mut off: Vec<f32> = part
                .iter()
                .map(|(d, l)| (l - k * d).abs().single())
                .collect();
            let mut current: Vec<f32> = part.iter().map(|p| p.0.single()).collect();
            let width = f64::from(median(&mut off)) * MAD_TO_SIGMA;
            (width * width, f64::from(median(&mut current)))
        };
        let (faint, bright) = by_current.split_at(by_current.len() / 2);
        let ((v0, d0), (v1, d1)) = (half(faint), half(bright));
        let of_current = ((v1 - v0) / (d1 - d0).max(f64::MIN_POSITIVE)).max(0.0);
        let of_all = (v0 - of_current * d0).max(0.1 * v0);
        (of_all > 0.0).then_some(Self { of_all, of_current })
    }

    fn variance(&self, current: f64) -> f64 {
        self.of_all + self.of_current * current
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_sky::chance::{normal, uniform};

    #[test]
    fn stars_beside_hot_pixels_do_not_move_the_slope() {
        let pairs: Vec<(f64, f64)> = (0..400u64)
            .map(|i| {
                let dark = 50.0 * (4.0 * uniform(i, 1)).exp();
                let star = if uniform(i, 2) < 0.05 { 400.0 } else { 0.0 };
                (dark, 0.37 * dark + star + 15.0 * normal(i, 3))
            })
            .collect();
        let k = slope(&pairs).unwrap();
        assert!((k.value - 0.37).abs() < 3.0 * k.sigma, "{k:?}");
        assert!(k.sigma < 0.004, "{k:?}");
        assert!(slope(&pairs[..10]).is_none());
    }
}
