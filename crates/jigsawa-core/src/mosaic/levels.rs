//! One balance for all panels of a filter: scales from the stars that panels share, low surfaces from all overlaps
//! together.
//!
//! Each pair of frames with stars in common gives the ratio of their scales; all ratios together give the scales, by
//! least squares on their logarithms. Each patch of sky that two frames show then says by how much their surfaces
//! differ there. Surfaces are polynomials over each frame, of the lowest degree that foretells patches left out in turn;
//! nebula cancels in a difference, so all patches without stars count. Where it is bright it tells the scales better
//! than a handful of stars do, so that these are solved for once more together with the surfaces, the stars' ratios
//! among the equations: half a percent of a bright nebula would be a step of its own.
//!
//! Overlaps tell only how panels differ: a surface added to all of them at once changes no overlap. Of all solutions
//! the one with the least correction is taken, so that nothing is tilted for nothing; frames that need much (one
//! under a moon) count less in that, since what they have is no measure of the true sky (Cauchy's weights). Panels
//! matched to their neighbours one after the other were the simpler way: a tilt grows along the row.

use nalgebra::{DMatrix, DVector};

use crate::balance::scale::{CommonStar, good_stars, star_scale};
use crate::balance::{
    Balance, BothSkies, Domain, Lattice, Member, Polynomial, ScaleBy, Sky, Surface, both_skies,
    exposure_or_none, nebula_scale,
};
use crate::measured::Measured;
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, median, quantile};
use crate::space::{CanvasPx, Point};

/// Degrees of the surfaces that are tried.
const DEGREES: [usize; 4] = [0, 1, 2, 3];

/// A higher degree must foretell unseen patches better by this part of the mean square.
const WORTH_IT: f64 = 0.05;

/// What is wrong with a patch besides its noise, in parts of the pixels' own: faint stars, and flats.
const PATCH_FAULT: f64 = 0.05;

/// Without a star in common, exposures and gains tell the scale to this.
const UNTOLD: f64 = 0.3;

/// No ratio of two frames' scales is better known than this.
const LEAST_ERROR: f64 = 0.002;

/// A nebula's brightness tells a scale no better than this, patch by patch: flats and optics differ.
const NEBULA_FAULT: f64 = 0.005;

/// Two frames of a filter that overlap.
#[derive(Debug, Clone)]
pub struct Overlap {
    /// The first frame.
    pub a: usize,
    /// The other.
    pub b: usize,
    /// What makes the other's values the first's, by their stars (or else their nebula), before all are solved together.
    pub ratio: Option<Measured>,
    /// Stars behind it; 0 where it is from the nebula.
    pub stars: usize,
    /// Patches that both show.
    pub patches: Vec<Shared>,
}

/// A patch of an overlap.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shared {
    /// Its middle.
    pub at: Point<CanvasPx>,
    /// First less other, as they are.
    pub before: f64,
    /// First less other, balanced.
    pub after: f64,
    /// Balanced mean of both.
    pub mean: f64,
    /// The weight that it has kept, 0 to 1.
    pub kept: f64,
}

/// All frames of a filter brought together.
#[derive(Debug, Clone)]
pub struct Levelled {
    /// The balance of each frame.
    pub balances: Vec<Balance>,
    /// The overlaps with what is left in them.
    pub overlaps: Vec<Overlap>,
    /// The frame whose values stay what they are in its middle.
    pub anchor: usize,
    /// Degree of the surfaces.
    pub degree: usize,
}

/// A frame of the filter, and its balance if that is to stay.
#[derive(Debug, Clone)]
pub struct ToLevel<'a> {
    /// The frame.
    pub sky: Sky<'a>,
    /// What it has already.
    pub kept: Option<Balance>,
}

/// Stars of two frames that are the same, as places in their catalogues.
pub type SameStars<'a> = dyn Fn(usize, usize) -> Vec<(usize, usize)> + Sync + 'a;

/// Brings the frames of a filter together. The values of the frame with the least noise, once all are scaled, stay what
/// they are in its middle; or those of the frames that are kept.
pub fn level(frames: &[ToLevel<'_>], same: &SameStars<'_>) -> Levelled {
    let mut overlaps = Vec::new();
    let mut both: Vec<Vec<BothSkies>> = Vec::new();
    for a in 0..frames.len() {
        for b in a + 1..frames.len() {
            let patches = both_skies(&frames[a].sky.samples, &frames[b].sky.samples);
            let pairs = same(a, b);
            if patches.is_empty() && pairs.is_empty() {
                continue;
            }
            let (ma, mb) = (&frames[a].sky.member, &frames[b].sky.member);
            let stars: Vec<CommonStar> = good_stars(ma, mb, pairs);
            let lattice = frames[a].sky.samples.lattice();
            let found = star_scale(&stars).or_else(|| nebula_scale(&patches, lattice));
            overlaps.push(Overlap {
                a,
                b,
                ratio: found.map(|f| f.0),
                stars: found.map_or(0, |f| f.1),
                patches: Vec::new(),
            });
            both.push(patches);
        }
    }
    let anchor = match frames.iter().position(|f| f.kept.is_some()) {
        Some(kept) => kept,
        None => deepest(frames, &scales(frames, &overlaps, 0)),
    };
    let first = scales(frames, &overlaps, anchor);
    let surfaces = Surfaces::new(frames, (&first, anchor), &overlaps, &both);
    let degree = surfaces.degree();
    let fit = surfaces.fit(degree, &|_| true);
    let surface = |i: usize| surfaces.surface(i, degree, &fit);
    let scales: Vec<Measured> = (0..frames.len()).map(|i| surfaces.scale(i, &fit)).collect();
    let raise = match frames.iter().position(|f| f.kept.is_some()) {
        Some(_) => 0.0,
        None => -surface(anchor).at(middle(&frames[anchor].sky.member)),
    };
    let mut balances: Vec<Balance> = (0..frames.len())
        .map(|i| {
            if let Some(kept) = &frames[i].kept {
                return kept.clone();
            }
            let sky = &frames[i].sky.member.catalogue.sky;
            let (scale, by, stars) = told(&overlaps, i, scales[i], anchor);
            Balance {
                scale,
                scale_by: by,
                stars,
                surface: surface(i).plus(Surface::constant(raise)),
                ..Balance::unchanged(
                    f64::from(sky.typical_level()),
                    f64::from(sky.typical_sigma()),
                )
            }
        })
        .collect();
    for (k, (o, patches)) in overlaps.iter_mut().zip(&both).enumerate() {
        let (a, b) = (&balances[o.a], &balances[o.b]);
        o.patches = patches
            .iter()
            .zip(&fit.kept[k])
            .map(|(p, kept)| {
                let (first, other) = (a.apply(p.reference, p.at), b.apply(p.frame, p.at));
                Shared {
                    at: p.at,
                    before: p.reference - p.frame,
                    after: first - other,
                    mean: 0.5 * (first + other),
                    kept: *kept,
                }
            })
            .collect();
    }
    for (i, balance) in balances.iter_mut().enumerate() {
        if frames[i].kept.is_some() {
            continue;
        }
        let own: Vec<&Shared> = overlaps
            .iter()
            .filter(|o| o.a == i || o.b == i)
            .flat_map(|o| &o.patches)
            .collect();
        let mut off: Vec<f32> = own.iter().map(|p| p.after.abs() as f32).collect();
        balance.patches = own.len();
        if !off.is_empty() {
            let noise = balance.scale.value * balance.noise_adu;
            balance.residual_sigma = f64::from(median(&mut off)) * MAD_TO_SIGMA / noise.max(1e-30);
        }
        let both = (&frames[anchor].sky.member, &frames[i].sky.member);
        balance.weight = weight(both, balance);
    }
    Levelled {
        balances,
        overlaps,
        anchor,
        degree,
    }
}

/// The frame whose pixels have the least noise after scaling.
fn deepest(frames: &[ToLevel<'_>], scales: &[Measured]) -> usize {
    let noise = |i: usize| scales[i].value * noise_of_area(&frames[i].sky.member);
    let sound = (0..frames.len()).filter(|i| noise(*i) > 0.0);
    sound
        .min_by(|a, b| noise(*a).total_cmp(&noise(*b)))
        .unwrap_or(0)
}

/// Noise of a frame over the area of a canvas pixel: cameras with larger pixels have no less of it.
fn noise_of_area(m: &Member<'_>) -> f64 {
    m.noise() / m.placement.area_ratio(middle(m)).sqrt()
}

/// 1 / variance over an area, the anchor's being 1.
fn weight((anchor, own): (&Member<'_>, &Member<'_>), b: &Balance) -> f64 {
    let w = (noise_of_area(anchor) / (b.scale.value * noise_of_area(own))).powi(2);
    if w.is_finite() && w > 0.0 { w } else { 1.0 }
}

fn middle(m: &Member<'_>) -> Point<CanvasPx> {
    m.placement.invert().apply(m.size.centre())
}

/// The scale of a frame with its error, and what it rests on.
fn told(
    overlaps: &[Overlap],
    i: usize,
    scale: Measured,
    anchor: usize,
) -> (Measured, ScaleBy, usize) {
    if i == anchor {
        return (scale, ScaleBy::Reference, 0);
    }
    let own = overlaps.iter().filter(|o| o.a == i || o.b == i);
    let told: Vec<&Overlap> = own.filter(|o| o.ratio.is_some()).collect();
    let stars: usize = told.iter().map(|o| o.stars).sum();
    match (told.is_empty(), stars) {
        (true, _) => (scale, ScaleBy::Exposure, 0),
        (false, 0) => (scale, ScaleBy::Signal, 0),
        (false, n) => (scale, ScaleBy::Stars, n),
    }
}

/// The scales of all frames by their ratios.
fn scales(frames: &[ToLevel<'_>], overlaps: &[Overlap], anchor: usize) -> Vec<Measured> {
    let n = frames.len();
    // (a, b, ln of what makes b's values a's, sigma)
    let mut rows: Vec<(usize, usize, f64, f64)> = overlaps
        .iter()
        .filter_map(|o| {
            let r = o.ratio.filter(|r| r.value > 0.0)?;
            Some((o.a, o.b, r.value.ln(), (r.sigma / r.value).max(LEAST_ERROR)))
        })
        .collect();
    let measured = rows.len();
    for b in (0..n).filter(|b| *b != anchor) {
        let ratio = exposure_or_none(&frames[anchor].sky.member, &frames[b].sky.member);
        rows.push((anchor, b, ratio.map_or(0.0, |r| r.value.ln()), UNTOLD));
    }
    let mut kept = vec![1.0; rows.len()];
    let mut logs = DVector::zeros(n);
    let mut errors = vec![0.0; n];
    for _ in 0..8 {
        let mut normal = DMatrix::<f64>::zeros(n, n);
        let mut right = DVector::zeros(n);
        for ((a, b, ln, sigma), k) in rows.iter().zip(&kept) {
            let w = k / (sigma * sigma);
            for (i, x) in [(*b, 1.0), (*a, -1.0)] {
                right[i] += w * x * ln;
                for (j, y) in [(*b, 1.0), (*a, -1.0)] {
                    normal[(i, j)] += w * x * y;
                }
            }
        }
        for (i, f) in frames.iter().enumerate() {
            let fixed = f.kept.as_ref().map(|b| b.scale.value.ln());
            let none_kept = frames.iter().all(|f| f.kept.is_none());
            if let Some(to) = fixed.or((none_kept && i == anchor).then_some(0.0)) {
                normal[(i, i)] += 1e12;
                right[i] += 1e12 * to;
            }
        }
        let Some(cholesky) = normal.cholesky() else {
            break;
        };
        logs = cholesky.solve(&right);
        let inverse = cholesky.inverse();
        let off: Vec<f64> = rows
            .iter()
            .map(|(a, b, ln, sigma)| (ln - (logs[*b] - logs[*a])) / sigma)
            .collect();
        let mut sizes: Vec<f32> = off[..measured].iter().map(|o| o.abs() as f32).collect();
        let spread = if sizes.len() > 2 {
            (f64::from(median(&mut sizes)) * MAD_TO_SIGMA).max(1.0)
        } else {
            1.0
        };
        // Closed loops tell a false ratio; where there is none, each stands alone and stays.
        for ((k, o), _) in kept.iter_mut().zip(&off).zip(0..measured) {
            *k = biweight(*o, 2.0 * BIWEIGHT_REACH * spread).max(1e-3);
        }
        for (i, e) in errors.iter_mut().enumerate() {
            *e = spread * inverse[(i, i)].max(0.0).sqrt();
        }
    }
    (0..n)
        .map(|i| {
            let value = logs[i].exp();
            Measured {
                value: if i == anchor && frames[i].kept.is_none() {
                    1.0
                } else {
                    value
                },
                sigma: if errors[i] > 1e-5 {
                    errors[i] * value
                } else {
                    0.0
                },
            }
        })
        .collect()
}

/// One patch's equation: the surface of `a` less that of `b` is `value`.
struct Row {
    overlap: usize,
    a: usize,
    b: usize,
    at: Point<CanvasPx>,
    value: f64,
    weight: f64,
    /// Balanced brightness of both above their darkest patches, which a scale's change multiplies.
    bright: (f64, f64),
    /// Patches are left out together by this.
    fold: usize,
}

/// All patches of all overlaps, and what stars say of the scales.
struct Surfaces {
    rows: Vec<Row>,
    domains: Vec<Domain>,
    fixed: Vec<Option<Surface>>,
    counts: Vec<usize>,
    /// The scales by stars, the value of each frame's darkest patches, and which scales stay.
    scales: Vec<Measured>,
    dark: Vec<f64>,
    stays: Vec<bool>,
    /// (a, b, by how much the ratio of the stars is larger than that of the scales, sigma).
    ratios: Vec<(usize, usize, f64, f64)>,
}

/// Parts that patches are left out in.
const FOLDS: usize = 4;

/// Numbers of all surfaces and the parts by which scales change, and what each patch has kept, by overlaps.
struct Fit {
    numbers: DVector<f64>,
    /// Standard error of each scale's change.
    errors: Vec<f64>,
    kept: Vec<Vec<f64>>,
}

impl Surfaces {
    fn new(
        frames: &[ToLevel<'_>],
        (scales, anchor): (&[Measured], usize),
        overlaps: &[Overlap],
        both: &[Vec<BothSkies>],
    ) -> Self {
        let dark: Vec<f64> = (0..frames.len())
            .map(|i| {
                let own = overlaps.iter().zip(both).flat_map(|(o, patches)| {
                    patches.iter().filter_map(move |p| match i {
                        _ if i == o.a => Some(p.reference as f32),
                        _ if i == o.b => Some(p.frame as f32),
                        _ => None,
                    })
                });
                let mut values: Vec<f32> = own.collect();
                if values.is_empty() {
                    return 0.0;
                }
                f64::from(quantile(&mut values, 0.1))
            })
            .collect();
        let domain = |f: &ToLevel<'_>| {
            let m = &f.sky.member;
            let at = middle(m);
            let unit = m.placement.area_ratio(at).sqrt();
            Domain {
                centre: [at.x, at.y],
                half: 0.5 * (m.size.width() as f64).hypot(m.size.height() as f64) / unit,
            }
        };
        let mut rows = Vec::new();
        for (k, (o, patches)) in overlaps.iter().zip(both).enumerate() {
            let lattice = frames[o.a].sky.samples.lattice();
            let noise = |i: usize| scales[i].value * frames[i].sky.member.noise();
            let pixel = noise(o.a).hypot(noise(o.b)).max(1e-30);
            for p in patches {
                let points = p.filled * points(&lattice);
                let above = |i: usize, v: f64| scales[i].value * (v - dark[i]);
                let bright = (above(o.a, p.reference), above(o.b, p.frame));
                let fault = NEBULA_FAULT * bright.0.abs().max(bright.1.abs());
                let error2 = pixel * pixel * (1.0 / points.max(1.0) + PATCH_FAULT * PATCH_FAULT)
                    + fault * fault;
                let block = |v: f64| (v / (3.0 * lattice.patch_px() as f64)) as usize;
                rows.push(Row {
                    overlap: k,
                    a: o.a,
                    b: o.b,
                    at: p.at,
                    value: scales[o.b].value * p.frame - scales[o.a].value * p.reference,
                    weight: 1.0 / error2,
                    bright,
                    fold: (block(p.at.x) + 3 * block(p.at.y)) % FOLDS,
                });
            }
        }
        Self {
            rows,
            domains: frames.iter().map(domain).collect(),
            fixed: frames
                .iter()
                .map(|f| f.kept.as_ref().map(|b| b.surface.clone()))
                .collect(),
            counts: both.iter().map(Vec::len).collect(),
            stays: (0..frames.len())
                .map(|i| {
                    frames[i].kept.is_some()
                        || (i == anchor && frames.iter().all(|f| f.kept.is_none()))
                })
                .collect(),
            ratios: overlaps
                .iter()
                .filter_map(|o| {
                    let r = o.ratio.filter(|r| r.value > 0.0)?;
                    let more = r.value.ln() - (scales[o.b].value / scales[o.a].value).ln();
                    Some((o.a, o.b, more, (r.sigma / r.value).max(LEAST_ERROR)))
                })
                .collect(),
            scales: scales.to_vec(),
            dark,
        }
    }

    /// A frame's scale with what its surfaces' fit has changed.
    fn scale(&self, i: usize, fit: &Fit) -> Measured {
        let own = self.scales[i];
        if self.stays[i] {
            return own;
        }
        Measured {
            value: own.value * (1.0 + self.change(i, &fit.numbers)),
            sigma: own.value * fit.errors[i],
        }
    }

    /// By which part the fit changes a scale: those numbers stand behind the surfaces'.
    fn change(&self, i: usize, numbers: &DVector<f64>) -> f64 {
        numbers[numbers.len() - self.domains.len() + i]
    }

    /// The lowest degree that foretells patches well.
    fn degree(&self) -> usize {
        let unseen = |degree: usize| {
            let mut off: Vec<f32> = Vec::new();
            for fold in 0..FOLDS {
                let fit = self.fit(degree, &|r: &Row| r.fold != fold);
                let left_out = self.rows.iter().filter(|r| r.fold == fold);
                off.extend(
                    left_out.map(|r| (self.off(r, degree, &fit.numbers).powi(2) * r.weight) as f32),
                );
            }
            off.sort_by(f32::total_cmp);
            off.truncate((off.len() * 19).div_ceil(20));
            off.iter().map(|v| f64::from(*v)).sum::<f64>() / off.len().max(1) as f64
        };
        let mut best = (DEGREES[0], unseen(DEGREES[0]));
        for degree in &DEGREES[1..] {
            // Each surface needs some patches for each of its numbers.
            if self.rows.len() < 3 * self.domains.len() * Polynomial::count(*degree) {
                break;
            }
            let next = unseen(*degree);
            if next < best.1 * (1.0 - WORTH_IT) {
                best = (*degree, next);
            }
        }
        best.0
    }

    fn off(&self, r: &Row, degree: usize, numbers: &DVector<f64>) -> f64 {
        let of = |i: usize| self.surface_at(i, degree, numbers, r.at);
        let scaled =
            self.change(r.a, numbers) * r.bright.0 - self.change(r.b, numbers) * r.bright.1;
        r.value - (of(r.a) - of(r.b)) - scaled
    }

    fn surface_at(
        &self,
        i: usize,
        degree: usize,
        numbers: &DVector<f64>,
        at: Point<CanvasPx>,
    ) -> f64 {
        if let Some(fixed) = &self.fixed[i] {
            return fixed.at(at);
        }
        let n = Polynomial::count(degree);
        let row = Polynomial::row(self.domains[i], degree, at);
        row.iter()
            .enumerate()
            .map(|(k, v)| v * numbers[i * n + k])
            .sum()
    }

    fn surface(&self, i: usize, degree: usize, fit: &Fit) -> Surface {
        if let Some(fixed) = &self.fixed[i] {
            return fixed.clone();
        }
        let n = Polynomial::count(degree);
        let mut own: Vec<f64> = (0..n).map(|k| fit.numbers[i * n + k]).collect();
        // A changed scale multiplies the dark sky, too; its patches were counted from there.
        own[0] -= self.change(i, &fit.numbers) * self.scales[i].value * self.dark[i];
        match own.as_slice() {
            [level] => Surface::constant(*level),
            [level, x, y] => {
                let d = self.domains[i];
                Surface::Plane {
                    x0: d.centre[0],
                    y0: d.centre[1],
                    level: *level,
                    slope_x: x / d.half,
                    slope_y: y / d.half,
                }
            }
            _ => Surface::Polynomial(Polynomial::new(self.domains[i], degree, own)),
        }
    }

    /// All surfaces of a degree through some of the patches.
    fn fit(&self, degree: usize, takes: &dyn Fn(&Row) -> bool) -> Fit {
        let n = Polynomial::count(degree);
        let frames = self.domains.len();
        let scales_at = n * frames;
        let count = scales_at + frames;
        let mut errors = vec![0.0; frames];
        let mut numbers = DVector::<f64>::zeros(count);
        let mut kept = vec![1.0; self.rows.len()];
        let mut usual = self.usual_size();
        let terms = |r: &Row| -> Vec<(usize, f64)> {
            let surfaces = [(r.a, 1.0), (r.b, -1.0)]
                .into_iter()
                .filter(|(i, _)| self.fixed[*i].is_none())
                .flat_map(|(i, sign)| {
                    let row = Polynomial::row(self.domains[i], degree, r.at);
                    row.into_iter()
                        .enumerate()
                        .map(move |(k, v)| (i * n + k, sign * v))
                });
            let scales = [(r.a, r.bright.0), (r.b, -r.bright.1)];
            surfaces
                .chain(scales.map(|(i, v)| (scales_at + i, v)))
                .collect()
        };
        let rows: Vec<Vec<(usize, f64)>> = self.rows.iter().map(terms).collect();
        for round in 0..8 {
            let mut normal = DMatrix::<f64>::zeros(count, count);
            let mut right = DVector::zeros(count);
            for ((r, row), k) in self.rows.iter().zip(&rows).zip(&kept) {
                if *k <= 0.0 || !takes(r) {
                    continue;
                }
                let fixed = |i: usize| self.fixed[i].as_ref().map_or(0.0, |s| s.at(r.at));
                let value = r.value - (fixed(r.a) - fixed(r.b));
                let w = r.weight * k;
                for (i, x) in row {
                    right[*i] += w * x * value;
                    for (j, y) in row {
                        normal[(*i, *j)] += w * x * y;
                    }
                }
            }
            for (a, b, more, sigma) in &self.ratios {
                let w = 1.0 / (sigma * sigma);
                for (i, x) in [(*b, 1.0), (*a, -1.0)] {
                    right[scales_at + i] += w * x * more;
                    for (j, y) in [(*b, 1.0), (*a, -1.0)] {
                        normal[(scales_at + i, scales_at + j)] += w * x * y;
                    }
                }
            }
            for (i, stays) in self.stays.iter().enumerate() {
                let allowed: f64 = if *stays { 1e-7 } else { UNTOLD };
                normal[(scales_at + i, scales_at + i)] += 1.0 / (allowed * allowed);
            }
            for i in 0..self.domains.len() {
                let own = (1..n).map(|k| numbers[i * n + k].powi(2)).sum::<f64>();
                let allowed = 3.0 * (usual * usual + own).sqrt();
                for k in 0..n {
                    let allowed = if k == 0 { 1e3 * allowed } else { allowed };
                    normal[(i * n + k, i * n + k)] += 1.0 / (allowed * allowed);
                }
            }
            let Some(cholesky) = normal.cholesky() else {
                break;
            };
            numbers = cholesky.solve(&right);
            if round == 7 {
                let inverse = cholesky.inverse();
                for (i, e) in errors.iter_mut().enumerate() {
                    *e = inverse[(scales_at + i, scales_at + i)].max(0.0).sqrt();
                }
            }
            let off: Vec<f64> = self
                .rows
                .iter()
                .map(|r| self.off(r, degree, &numbers))
                .collect();
            let mut sizes: Vec<f32> = off
                .iter()
                .zip(&self.rows)
                .filter(|(_, r)| takes(r))
                .map(|(o, r)| (o.abs() * r.weight.sqrt()) as f32)
                .collect();
            if sizes.is_empty() {
                break;
            }
            let spread = f64::from(median(&mut sizes)) * MAD_TO_SIGMA;
            if round > 0 {
                for ((k, o), r) in kept.iter_mut().zip(&off).zip(&self.rows) {
                    *k = biweight(o * r.weight.sqrt(), BIWEIGHT_REACH * spread.max(0.3));
                }
            }
            if n > 1 {
                let mut sizes: Vec<f32> = (0..self.domains.len())
                    .map(|i| {
                        (1..n)
                            .map(|k| numbers[i * n + k].powi(2))
                            .sum::<f64>()
                            .sqrt() as f32
                    })
                    .collect();
                usual = f64::from(median(&mut sizes)).max(1e-3 * self.usual_size());
            }
        }
        let mut by_overlap: Vec<Vec<f64>> =
            self.counts.iter().map(|n| Vec::with_capacity(*n)).collect();
        for (r, k) in self.rows.iter().zip(&kept) {
            by_overlap[r.overlap].push(*k);
        }
        Fit {
            numbers,
            errors,
            kept: by_overlap,
        }
    }

    /// By how much patches differ within their overlaps: about what surfaces have to do.
    fn usual_size(&self) -> f64 {
        let mut all: Vec<f32> = Vec::new();
        for k in 0..self.counts.len() {
            let of = self.rows.iter().filter(|r| r.overlap == k);
            let mut values: Vec<f32> = of.map(|r| r.value as f32).collect();
            if values.len() > 2 {
                let m = median(&mut values);
                all.extend(values.iter().map(|v| (v - m).abs()));
            }
        }
        if all.is_empty() {
            return 1.0;
        }
        f64::from(median(&mut all)).max(1e-12)
    }
}

/// Points of a whole patch.
fn points(lattice: &Lattice) -> f64 {
    let (columns, rows) = lattice.inside((0, 0));
    (columns.len() * rows.len()) as f64
}
