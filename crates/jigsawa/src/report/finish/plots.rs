//! Histograms of the channels with their points, and colours of stars, as SVG that follows the page's colours.

use jigsawa_core::finish::white::StarColour;
use jigsawa_core::number::Convert;
use maud::Markup;

use crate::report::chart::{Axis, Chart, Ink};

/// Sizes in the plots' own units.
const HISTOGRAM: (u32, u32) = (1180, 280);
const COLOURS: (u32, u32) = (430, 330);

/// Red, green and blue that can be told apart on light and on dark.
const CHANNELS: [[u8; 3]; 3] = [[217, 83, 79], [76, 166, 96], [74, 122, 220]];

/// Bins of a histogram.
const BINS: usize = 240;

/// Histograms of the three channels over light above the sky, in a scale that is straight around the sky and
/// logarithmic far from it; lines where black and white lie.
pub fn histogram(sample: &[[f32; 3]], points: &[(f32, f32); 3], noise: f32) -> Markup {
    let unit = f64::from(noise.max(f32::MIN_POSITIVE));
    let place = |v: f32| (f64::from(v) / unit).asinh();
    let finite = || sample.iter().flatten().copied().filter(|v| v.is_finite());
    let low = place(points.iter().map(|p| p.0).fold(f32::INFINITY, f32::min)).min(-2.0) * 1.15;
    let top = finite()
        .fold(0.0f32, f32::max)
        .max(points.iter().map(|p| p.1).fold(0.0, f32::max));
    let high = place(top) * 1.02;
    let mut counts = [[0u32; BINS]; 3];
    for pixel in sample {
        for (c, v) in pixel.iter().enumerate().filter(|(_, v)| v.is_finite()) {
            let at = (place(*v) - low) / (high - low) * BINS.real();
            if (0.0..BINS.real()).contains(&at) {
                counts[c][at.index()] += 1;
            }
        }
    }
    let line = |c: usize| -> Vec<(f64, f64)> {
        (0..BINS)
            .map(|i| {
                let x = low + (i.real() + 0.5) * (high - low) / BINS.real();
                (x, f64::from(counts[c][i] + 1).log10())
            })
            .collect()
    };
    let most = counts
        .iter()
        .flatten()
        .max()
        .map_or(1.0, |n| f64::from(*n + 1).log10());
    let x = Axis {
        words: "light above the sky, in noise widths",
        range: (low, high),
        marks: 9,
        label: &|x| format!("{:.0}", x.sinh()),
    };
    let y = Axis {
        words: "pixels",
        range: (0.0, 1.08 * most),
        marks: 4,
        label: &|y| format!("{:.0}", 10f64.powf(*y)),
    };
    let about = "histograms of red, green and blue with black and white points";
    let mut chart = Chart::new(about, HISTOGRAM, x, y);
    for (c, colour) in CHANNELS.into_iter().enumerate() {
        chart.line(line(c), Ink::line(colour, 2.0));
        for point in [points[c].0, points[c].1] {
            let x = place(point);
            chart.line([(x, 0.0), (x, 0.3 * most)], Ink::line(colour, 2.0));
        }
    }
    chart.drawn()
}

/// How far the colours of nearly all stars reach, for plots that are to be compared.
pub fn colour_reach(stars: &[StarColour]) -> f64 {
    let mut all: Vec<f32> = stars
        .iter()
        .flat_map(StarColour::magnitudes)
        .map(|m| m.abs().single())
        .filter(|m| m.is_finite())
        .collect();
    if all.is_empty() {
        return 1.0;
    }
    (1.4 * f64::from(jigsawa_core::robust::quantile(&mut all, 0.98))).clamp(0.3, 4.0)
}

/// Colours of the stars in magnitudes: blue against green over green against red; white is in the middle.
pub fn star_colours(stars: &[StarColour], words: &str, reach: f64) -> Markup {
    let axis = |words| Axis {
        words,
        range: (-reach, reach),
        marks: 5,
        label: &|v| format!("{v:.1}"),
    };
    let (x, y) = (axis("green - red, magnitudes"), axis("blue - green"));
    let mut chart = Chart::new(words, COLOURS, x, y);
    for line in [[(-reach, 0.0), (reach, 0.0)], [(0.0, -reach), (0.0, reach)]] {
        chart.line(line, Ink::class("axis"));
    }
    for star in stars {
        let [red, blue] = star.magnitudes();
        let at = (-red, blue);
        chart.dots([at], 2, Ink::dot(colour_of(at)));
    }
    chart.figure(words)
}

/// The colour of a dot, as a star of these magnitudes looks, made stronger.
fn colour_of((red, blue): (f64, f64)) -> [u8; 3] {
    let light = |m: f64| 10f64.powf(0.4 * m);
    let (r, g, b) = (light(red), 1.0, light(-blue));
    let most = r.max(g).max(b);
    [r, g, b].map(|v| (70.0 + 165.0 * (v / most).powf(1.2)).byte())
}
