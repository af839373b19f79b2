//! Colour made stronger or weaker, per hue if wanted, on the picture for the eye.
//!
//! Colour is what a pixel differs from the grey of its brightness (the mean of its channels); hue is the angle
//! of that difference in the plane of equal brightness, red at 0, green at 120, blue at 240 degrees. Differences
//! are multiplied, so hue and brightness stay. The dark, where colour is noise, and the stars, whose colour is measured,
//! are spared; a colour that would leave the screen's range is weakened to its edge, all channels alike.

/// Hues that can be named, with their angle in degrees.
pub const HUES: [(&str, f32); 7] = [
    ("red", 0.0),
    ("gold", 35.0),
    ("yellow", 60.0),
    ("green", 120.0),
    ("teal", 180.0),
    ("blue", 240.0),
    ("violet", 300.0),
];

/// How strong colours are made.
#[derive(Debug, Clone, PartialEq)]
pub struct Saturation {
    /// Of all hues.
    pub all: f32,
    /// Of hues by name, on top.
    pub hues: Vec<(usize, f32)>,
    /// Brightness of the sky and its noise on the screen: up to two noise widths above it nothing is done.
    pub sky: f32,
    /// Width over which it sets in.
    pub rise: f32,
}

impl Saturation {
    /// Is anything to be done?
    pub fn acts(&self) -> bool {
        self.all != 1.0 || self.hues.iter().any(|(_, k)| *k != 1.0)
    }

    /// The factor of a hue in degrees: that of all, times that of the named hues around it, blended in between.
    pub fn of_hue(&self, degrees: f32) -> f32 {
        let mut factor = self.all;
        for (k, by) in &self.hues {
            let before = HUES[(k + HUES.len() - 1) % HUES.len()].1;
            let (at, after) = (HUES[*k].1, HUES[(k + 1) % HUES.len()].1);
            let d = turned(degrees - at);
            let reach = if d < 0.0 {
                turned(before - at)
            } else {
                turned(after - at)
            };
            let near = (1.0 - d / reach).clamp(0.0, 1.0);
            // A smooth step on both sides.
            factor *= 1.0 + (by - 1.0) * near * near * (3.0 - 2.0 * near);
        }
        factor.max(0.0)
    }

    /// The pixel with its colour changed; `star` is 1 on a star.
    #[inline]
    pub fn apply(&self, rgb: [f32; 3], star: f32) -> [f32; 3] {
        let light = (rgb[0] + rgb[1] + rgb[2]) / 3.0;
        let set_in = ((light - self.sky) / self.rise).clamp(0.0, 1.0) * (1.0 - star);
        let factor = if self.hues.is_empty() {
            self.all
        } else {
            self.of_hue(hue(rgb))
        };
        within_range(rgb, light, 1.0 + (factor - 1.0) * set_in)
    }
}

/// The pixel with its differences from the grey multiplied, weakened as far as the range of 0 to 1 asks.
#[inline(always)]
#[allow(clippy::inline_always)]
pub(super) fn within_range(rgb: [f32; 3], light: f32, factor: f32) -> [f32; 3] {
    let (most, least) = (
        rgb[0].max(rgb[1]).max(rgb[2]) - light,
        light - rgb[0].min(rgb[1]).min(rgb[2]),
    );
    // Without branches, so that many pixels go at once.
    let k = if factor * most > 1.0 - light && most > 0.0 {
        (1.0 - light).max(0.0) / most
    } else {
        factor
    };
    let k = if k * least > light && least > 0.0 {
        k.min(light.max(0.0) / least)
    } else {
        k
    };
    rgb.map(|v| light + k * (v - light))
}

/// Hue in degrees, 0 to 360; 0 for greys.
pub fn hue([r, g, b]: [f32; 3]) -> f32 {
    let (x, y) = (r - 0.5 * (g + b), 0.866_025_4 * (g - b));
    if x == 0.0 && y == 0.0 {
        return 0.0;
    }
    y.atan2(x).to_degrees().rem_euclid(360.0)
}

/// An angle brought to -180 to 180 degrees.
fn turned(degrees: f32) -> f32 {
    (degrees + 180.0).rem_euclid(360.0) - 180.0
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(all: f32, hues: Vec<(usize, f32)>) -> Saturation {
        Saturation {
            all,
            hues,
            sky: 0.1,
            rise: 0.05,
        }
    }

    #[test]
    fn hue_and_brightness_stay() {
        let before = [0.5, 0.3, 0.25];
        let after = plain(1.5, vec![]).apply(before, 0.0);
        assert!((hue(before) - hue(after)).abs() < 0.01);
        assert!((after.iter().sum::<f32>() - before.iter().sum::<f32>()).abs() < 1e-6);
        assert!((after[0] - after[2]) / (before[0] - before[2]) > 1.49);
    }

    #[test]
    fn the_sky_the_stars_and_the_range_are_respected() {
        let s = plain(2.0, vec![]);
        assert_eq!(s.apply([0.08, 0.09, 0.1], 0.0), [0.08, 0.09, 0.1]);
        assert_eq!(s.apply([0.9, 0.5, 0.4], 1.0), [0.9, 0.5, 0.4]);
        let strong = s.apply([0.95, 0.3, 0.1], 0.0);
        assert!(
            strong.iter().all(|v| (-1e-6..=1.0 + 1e-6).contains(v)),
            "{strong:?}"
        );
        assert!((hue(strong) - hue([0.95, 0.3, 0.1])).abs() < 0.1);
    }

    #[test]
    fn a_named_hue_changes_alone() {
        let teal = HUES.iter().position(|(n, _)| *n == "teal").unwrap();
        let s = plain(1.0, vec![(teal, 0.5)]);
        assert!(s.acts() && !plain(1.0, vec![]).acts());
        assert!((s.of_hue(180.0) - 0.5).abs() < 1e-6);
        assert!((s.of_hue(120.0) - 1.0).abs() < 1e-6 && (s.of_hue(240.0) - 1.0).abs() < 1e-6);
        assert!((0.6..0.9).contains(&s.of_hue(210.0)));
        let red = plain(1.0, vec![(0, 2.0)]);
        assert!((red.of_hue(359.0) - red.of_hue(1.0)).abs() < 0.02);
    }
}
