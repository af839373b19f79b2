//! Noise taken out of a linear picture: starlet scales shrunk where they hold no more than noise.
//!
//! The picture becomes brightness (the mean of the channels) and two colour differences. Each is taken apart
//! into starlet scales; how strong noise is in each scale is measured on the picture's own dark places, since
//! stacking and interpolating have tied neighbouring pixels together, and how it grows with light on its bright
//! ones. A coefficient is kept by the part of the local energy that noise does not explain (an empirical
//! Wiener filter: Mihcak, Kozintsev, Ramchandran & Moulin 1999, IEEE Signal Process. Lett. 6, 300), which leaves
//! no islands as a hard threshold does. Colour is smoothed over one scale more and more strongly than
//! brightness: the eye sees detail in brightness. Stars are left alone.

use super::shrink::{Shrink, energy, mean_around, shrink};
use super::starlet::{reach, smooth};
use super::stream::{Ring, Stream, ready};
use super::tile::Tile;
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, mad, quantile};

/// Scales of the brightness, and of the colours.
const SCALES: [usize; 3] = [3, 4, 4];

/// Most scales of any. A fifth was tried: it takes the widest blotches of colour, and a border twice as wide.
const MOST: usize = 4;

/// Noise of a pixel from that of its scales; what the last one leaves holds hardly any.
fn whole(scales: &[f32; MOST]) -> f32 {
    let square = |s: &[f32; MOST]| s.iter().map(|v| v * v).sum::<f32>();
    (square(scales) / square(&WHITE_NOISE)).sqrt()
}

/// How noise lies in a picture.
#[derive(Debug, Clone, PartialEq)]
pub struct Noise {
    /// Of brightness and both colours: noise of each scale in the dark.
    sigma: [[f32; MOST]; 3],
    /// The part by which variances grow for each unit of light.
    growth: f32,
    /// Noise of a pixel's brightness in the dark.
    pub brightness: f32,
    /// Noise of green less the mean of red and blue.
    pub green_excess: f32,
}

/// How much of the noise is taken, 0 to 1.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Quiet {
    /// Of the brightness.
    pub brightness: f32,
    /// Of the colours.
    pub colour: f32,
}

impl Quiet {
    /// Is anything to be done?
    pub fn acts(self) -> bool {
        self.brightness > 0.0 || self.colour > 0.0
    }
}

/// Pixels that a piece must have around it.
pub const fn border() -> usize {
    // The last scale's coefficients, and the smoothing of their energy.
    reach(MOST) + 2 * (1 << (MOST - 1))
}

/// Noise of each scale for pixels of noise 1 that know nothing of each other (Starck & Murtagh 1994).
const WHITE_NOISE: [f32; MOST] = [0.890, 0.201, 0.086, 0.041];

/// Bends over two pixels that are so much stronger than those over one tell of noise that is tied together; of white
/// noise larger scales have at most so much more than its own, whatever is seen in them.
const TIED_FROM: f32 = 1.12;
const TIED: f32 = 2.2;

/// Noise that was smoothed grows from scale to scale, against white noise, ever more slowly: much from the finest
/// scale, which smoothing takes nearly whole, then no more than before but for the errors of both. What grows faster is
/// nebula.
const FIRST_GROWTH: f32 = 200.0;
const MOST_GROWTH: f32 = 8.0;
const SLACK: f32 = 1.15;

/// Dark places of each piece that a scale's noise is taken from, and of the pieces the quieter ones: how noise is tied
/// together is the same everywhere, what is more is nebula.
const LEAST_IN_PIECE: usize = 150;
const QUIET: f64 = 0.3;

/// Pairs of light and squared coefficient, of which noise is measured.
const LEAST_PIXELS: usize = 2000;

impl Noise {
    /// Measures noise on pieces of the picture, above the sky and white: some from all over it. Places with
    /// stars do not count. `None` when there is too little to measure.
    pub fn measure(tiles: &mut [Tile]) -> Option<Self> {
        let mut light: Vec<f32> = Vec::new();
        let mut coefficients: [[Vec<f32>; MOST]; 3] = Default::default();
        let mut excess: Vec<f32> = Vec::new();
        let mut bends: [[Vec<f32>; 2]; 3] = Default::default();
        // Where the places of each piece begin.
        let mut pieces = vec![0];
        for tile in tiles {
            let into = (&mut light, &mut coefficients, &mut excess, &mut bends);
            sample(tile, into);
            pieces.push(light.len());
        }
        if light.len() < LEAST_PIXELS {
            return None;
        }
        let dark = quantile(&mut light.clone(), 0.3);
        let spread = |values: &[f32], keep: &dyn Fn(f32) -> bool| {
            let mut kept: Vec<f32> = values
                .iter()
                .zip(&light)
                .filter(|(_, l)| keep(**l))
                .map(|(v, _)| *v)
                .collect();
            mad(&mut kept, 0.0) * MAD_TO_SIGMA.single()
        };
        let in_dark = |v: &[f32]| spread(v, &|l| l <= dark);
        let sigma: [[f32; MOST]; 3] = std::array::from_fn(|p| {
            let [near, far] = bends[p].each_ref().map(|b| in_dark(b));
            let measured = std::array::from_fn(|j| {
                let all = in_dark(&coefficients[p][j]);
                quiet(&coefficients[p][j], &light, dark, &pieces).map_or(all, |q| q.min(all))
            });
            sensible(measured, far > TIED_FROM * near)
        });
        // Nebulae have little structure in the finest scale: there the bright part of the picture shows how
        // noise grows with light.
        let bright = quantile(&mut light.clone(), 0.9);
        let centre = |keep: &dyn Fn(f32) -> bool| {
            let mut kept: Vec<f32> = light.iter().copied().filter(|l| keep(*l)).collect();
            crate::robust::median(&mut kept)
        };
        let (l0, l1) = (centre(&|l| l <= dark), centre(&|l| l >= bright));
        let (s0, s1) = (
            in_dark(&coefficients[0][0]),
            spread(&coefficients[0][0], &|l| l >= bright),
        );
        let growth = if s0 > 0.0 && l1 > l0 {
            (((s1 / s0).powi(2) - 1.0) / (l1 - l0)).max(0.0)
        } else {
            0.0
        };
        Some(Self {
            sigma,
            growth,
            brightness: whole(&sigma[0]),
            green_excess: in_dark(&excess),
        })
    }

    /// Takes noise out of a piece; its border must be [`border`] wide.
    pub fn take_from(&self, tile: &mut Tile, quiet: Quiet) {
        if !quiet.acts() {
            return;
        }
        let width = tile.width;
        let shape = (width, tile.area() / width.max(1));
        let [mut y, mut c, mut d] = [tile.borrow(), tile.borrow(), tile.borrow()];
        to_brightness(tile, &mut y, &mut c, &mut d);
        let mut growth = tile.borrow();
        // How much the variance has grown is told by the light around, not by the pixel's own noise.
        let mut stream = Stream::new(2, shape);
        for row in y.chunks_exact(width) {
            stream.take(row);
            stream.smooth(&mut |scale, at, _, smooth| {
                if scale == 1 {
                    for (g, v) in growth[at * width..].iter_mut().zip(smooth) {
                        *g = 1.0 + self.growth * v.max(0.0);
                    }
                }
            });
        }
        let strengths = [quiet.brightness, quiet.colour, quiet.colour];
        for (p, plane) in [&mut y, &mut c, &mut d].into_iter().enumerate() {
            if strengths[p] > 0.0 {
                let how = How {
                    sigma: &self.sigma[p][..SCALES[p]],
                    strength: strengths[p],
                    growth: &growth,
                    stars: &tile.stars,
                };
                take_from_plane(&how, plane, shape);
            }
        }
        from_brightness(tile, &y, &c, &d);
        for plane in [y, c, d, growth] {
            tile.give_back(plane);
        }
    }
}

/// How noise is taken from one plane.
struct How<'a> {
    /// Noise of each scale.
    sigma: &'a [f32],
    strength: f32,
    growth: &'a [f32],
    stars: &'a [f32],
}

/// The structure of one scale, and its energy, until the rows below are known.
struct Structure {
    w: Ring,
    energy: Ring,
    shrunk: usize,
}

fn take_from_plane(how: &How<'_>, plane: &mut [f32], shape: (usize, usize)) {
    let (width, height) = shape;
    let of_scale = |j: usize| Structure {
        w: Ring::new(2 * (1 << j) + 1, shape),
        energy: Ring::new(4 * (1 << j) + 1, shape),
        shrunk: 0,
    };
    let mut structures: Vec<Structure> = (0..how.sigma.len()).map(of_scale).collect();
    let mut stream = Stream::new(how.sigma.len(), shape);
    let mut local = vec![0.0; width];
    for y in 0..height {
        // Rows are taken before anything is taken from them: what has been lies above.
        stream.take(&plane[y * width..][..width]);
        stream.smooth(&mut |j, y, rough, smooth| {
            let (s, step) = (&mut structures[j], 1 << j);
            energy(rough, smooth, s.w.row_mut(y), s.energy.row_mut(y));
            while s.shrunk < ready(y + 1, 2 * step, height) {
                let at = s.shrunk;
                let line = |d: isize| {
                    let y = at.isize() + d * step.isize();
                    s.energy.row(y.clamp(0, height.isize() - 1).index())
                };
                let lines = [line(-2), line(-1), line(0), line(1), line(2)];
                mean_around(lines, &mut local, step.index());
                let range = at * width..(at + 1) * width;
                let by = Shrink {
                    variance: how.sigma[j] * how.sigma[j],
                    strength: how.strength,
                    growth: &how.growth[range.clone()],
                    stars: &how.stars[range.clone()],
                };
                shrink(&by, s.w.row(at), &local, &mut plane[range]);
                s.shrunk += 1;
            }
        });
    }
}

/// The scatter of a scale in the quieter pieces' dark places; `None` where too few pieces have such.
fn quiet(values: &[f32], light: &[f32], dark: f32, pieces: &[usize]) -> Option<f32> {
    let mut all: Vec<f32> = pieces
        .windows(2)
        .filter_map(|w| {
            let (values, light) = (&values[w[0]..w[1]], &light[w[0]..w[1]]);
            let kept = values.iter().zip(light).filter(|(_, l)| **l <= dark);
            let mut kept: Vec<f32> = kept.map(|(v, _)| *v).collect();
            (kept.len() >= LEAST_IN_PIECE).then(|| mad(&mut kept, 0.0) * MAD_TO_SIGMA.single())
        })
        .collect();
    (all.len() >= 4).then(|| quantile(&mut all, QUIET))
}

/// What noise over scales can be. Where next neighbours know nothing of each other (`tied` is false) it is white, but
/// for what the interpolation of the largest scales does.
fn sensible(mut measured: [f32; MOST], tied: bool) -> [f32; MOST] {
    if !tied {
        let white = measured[0] / WHITE_NOISE[0];
        return std::array::from_fn(|j| measured[j].min(TIED * white * WHITE_NOISE[j]));
    }
    let mut growth = MOST_GROWTH;
    for j in 1..MOST {
        let before = measured[j - 1] / WHITE_NOISE[j - 1];
        let own = measured[j] / WHITE_NOISE[j] / before.max(f32::MIN_POSITIVE);
        let most = if j == 1 {
            FIRST_GROWTH
        } else {
            (SLACK * growth.max(1.0)).min(MOST_GROWTH)
        };
        growth = own.min(most);
        measured[j] = growth * before * WHITE_NOISE[j];
    }
    measured
}

/// Brightness and the differences of red and of blue from it; 0 where a channel is missing.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn to_brightness(tile: &Tile, y: &mut [f32], c: &mut [f32], d: &mut [f32]) {
    let n = y.len();
    let [r, g, b] = tile.planes.each_ref().map(|p| &p[..n]);
    let (c, d) = (&mut c[..n], &mut d[..n]);
    for i in 0..n {
        let light = (r[i] + g[i] + b[i]) / 3.0;
        let here = !light.is_nan();
        y[i] = if here { light } else { 0.0 };
        c[i] = if here { r[i] - light } else { 0.0 };
        d[i] = if here { b[i] - light } else { 0.0 };
    }
}

/// Back to red, green and blue; a pixel with a missing channel stays as it is.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn from_brightness(tile: &mut Tile, y: &[f32], c: &[f32], d: &[f32]) {
    let n = y.len();
    let (c, d) = (&c[..n], &d[..n]);
    let [r, g, b] = tile.planes.each_mut().map(|p| &mut p[..n]);
    for i in 0..n {
        let here = !(r[i] + g[i] + b[i]).is_nan();
        let new = [y[i] + c[i], y[i] - c[i] - d[i], y[i] + d[i]];
        r[i] = if here { new[0] } else { r[i] };
        g[i] = if here { new[1] } else { g[i] };
        b[i] = if here { new[2] } else { b[i] };
    }
}

/// What is measured at places of a picture: light, coefficients of each plane, green's excess, and bends of each plane
/// over one and two pixels.
type Places<'a> = (
    &'a mut Vec<f32>,
    &'a mut [[Vec<f32>; MOST]; 3],
    &'a mut Vec<f32>,
    &'a mut [[Vec<f32>; 2]; 3],
);

/// Measures every few pixels of a piece, its border and its stars left out.
fn sample(tile: &mut Tile, (light, coefficients, excess, bends): Places<'_>) {
    let width = tile.width;
    let height = tile.area() / width.max(1);
    let edge = border();
    let mut planes = [tile.borrow(), tile.borrow(), tile.borrow()];
    let [y, c, d] = &mut planes;
    to_brightness(tile, y, c, d);
    let places: Vec<usize> = (edge..height.saturating_sub(edge))
        .step_by(3)
        .flat_map(|y| {
            (edge..width.saturating_sub(edge))
                .step_by(3)
                .map(move |x| y * width + x)
        })
        .filter(|i| tile.stars[*i] < 0.01 && tile.planes.iter().all(|p| p[*i].is_finite()))
        .collect();
    let [mut a, mut b, mut spare] = [tile.borrow(), tile.borrow(), tile.borrow()];
    for (p, plane) in planes.iter_mut().enumerate() {
        a.copy_from_slice(plane);
        for (k, kept) in bends[p].iter_mut().enumerate() {
            let d = k + 1;
            kept.extend(places.iter().map(|i| a[i - d] - 2.0 * a[*i] + a[i + d]));
        }
        for (j, kept) in coefficients[p].iter_mut().enumerate() {
            smooth(&a, &mut b, &mut spare, width, 1 << j);
            kept.extend(places.iter().map(|i| a[*i] - b[*i]));
            std::mem::swap(&mut a, &mut b);
        }
        if p == 0 {
            // What the last scale leaves is the light around.
            light.extend(places.iter().map(|i| a[*i]));
        }
    }
    let [r, g, b2] = &tile.planes;
    // From pixel to pixel, so that no nebula counts.
    let greener = |i: usize| g[i] - 0.5 * (r[i] + b2[i]);
    excess.extend(
        places
            .iter()
            .map(|i| (greener(*i) - greener(*i + 1)) * std::f32::consts::FRAC_1_SQRT_2),
    );
    let [y, c, d] = planes;
    for plane in [y, c, d, a, b, spare] {
        tile.give_back(plane);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_sky::chance::normal;

    const SIDE: usize = 420;

    /// Three planes of noise of 2 over a nebula.
    fn noisy(nebula: impl Fn(f32, f32) -> [f32; 3]) -> Tile {
        let mut tile = Tile::square(SIDE);
        for i in 0..SIDE * SIDE {
            let (x, y) = ((i % SIDE).single(), (i / SIDE).single());
            let light = nebula(x, y);
            for (p, plane) in tile.planes.iter_mut().enumerate() {
                plane[i] = light[p] + 2.0 * normal(i as u64, p as u64).single();
            }
        }
        tile
    }

    fn spread(values: &[f32], truth: impl Fn(usize) -> f32) -> f32 {
        let edge = border();
        let inner = (0..values.len()).filter(|i| {
            let (x, y) = (i % SIDE, i / SIDE);
            (edge..SIDE - edge).contains(&x) && (edge..SIDE - edge).contains(&y)
        });
        let (mut sum, mut n) = (0.0f64, 0);
        for i in inner {
            sum += f64::from(values[i] - truth(i)).powi(2);
            n += 1;
        }
        (sum / f64::from(n)).sqrt().single()
    }

    #[test]
    fn noise_is_measured_and_taken_from_even_sky() {
        let mut tiles = [noisy(|_, _| [0.0; 3])];
        let noise = Noise::measure(&mut tiles).unwrap();
        // The mean of three channels of noise 2.
        assert!(
            (noise.brightness / (2.0 / 3f32.sqrt()) - 1.0).abs() < 0.05,
            "{noise:?}"
        );
        assert!((noise.green_excess / (2.0 * 1.5f32.sqrt()) - 1.0).abs() < 0.05);
        let quiet = Quiet {
            brightness: 1.0,
            colour: 1.0,
        };
        noise.take_from(&mut tiles[0], quiet);
        for p in &tiles[0].planes {
            let left = spread(p, |_| 0.0);
            assert!(left < 0.25, "{left}");
        }
    }

    #[test]
    fn noise_that_was_smoothed_goes_as_white_noise_does() {
        let mut tile = noisy(|_, _| [5.0; 3]);
        for plane in &mut tile.planes {
            let mut spare = vec![0.0; plane.len()];
            // Of about 1.2 px, as resampled and gently denoised masters have.
            let from = plane.clone();
            smooth(&from, plane, &mut spare, SIDE, 1);
        }
        let before: Vec<f32> = (0..3).map(|p| spread(&tile.planes[p], |_| 5.0)).collect();
        let mut tiles = [tile];
        let noise = Noise::measure(&mut tiles).unwrap();
        let all = Quiet {
            brightness: 1.0,
            colour: 1.0,
        };
        noise.take_from(&mut tiles[0], all);
        for (plane, before) in tiles[0].planes.iter().zip(before) {
            let left = spread(plane, |_| 5.0) / before;
            println!("{:.1} % left", 100.0 * left);
            assert!(left < 0.25, "{left}");
        }
    }

    #[test]
    fn structure_above_the_noise_stays() {
        // Filaments 14 pixels wide, of ten times the noise, in red.
        let nebula = |x: f32, y: f32| [20.0 * ((x + 0.3 * y) / 7.0).sin(), 0.0, 0.0];
        let mut tiles = [noisy(nebula)];
        let noise = Noise::measure(&mut tiles).unwrap();
        noise.take_from(
            &mut tiles[0],
            Quiet {
                brightness: 0.9,
                colour: 0.9,
            },
        );
        let truth = |i: usize| nebula((i % SIDE).single(), (i / SIDE).single())[0];
        let left = spread(&tiles[0].planes[0], truth);
        assert!(left < 1.4, "{left}");
    }

    #[test]
    fn missing_pixels_stay_missing_and_stars_stay_as_they_are() {
        let mut tile = noisy(|_, _| [5.0; 3]);
        let noise = Noise::measure(std::slice::from_mut(&mut tile)).unwrap();
        tile.planes[1][200 * SIDE + 200] = f32::NAN;
        let star = 210 * SIDE + 220;
        tile.stars[star] = 1.0;
        let before = tile.pixel(star);
        noise.take_from(
            &mut tile,
            Quiet {
                brightness: 1.0,
                colour: 1.0,
            },
        );
        assert!(tile.planes[1][200 * SIDE + 200].is_nan());
        for (a, b) in tile.pixel(star).iter().zip(before) {
            assert!((a - b).abs() < 1e-4);
        }
        assert!(Noise::measure(&mut []).is_none());
    }
}
