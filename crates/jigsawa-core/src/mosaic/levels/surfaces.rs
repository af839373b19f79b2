//! The surfaces of a filter's frames, and how their scales change with them: one system over all patches that two frames
//! show, and over the ratios of their stars.

use nalgebra::{DMatrix, DVector};

use super::{
    DEGREES, LEAST_ERROR, NEBULA_FAULT, Overlap, PATCH_FAULT, ToLevel, UNTOLD, WORTH_IT, middle,
};
use crate::balance::{BothSkies, Domain, Lattice, Polynomial, Surface};
use crate::measured::Measured;
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, median, quantile};
use crate::space::{CanvasPx, Point};

/// One patch's equation: the surface of `a` less that of `b` is `value`.
pub(super) struct Row {
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

/// Which patches count.
pub(super) type Takes<'a> = dyn Fn(&Row) -> bool + 'a;

/// All patches of all overlaps, and what stars say of the scales.
pub(super) struct Surfaces {
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
pub(super) struct Fit {
    numbers: DVector<f64>,
    /// Standard error of each scale's change.
    errors: Vec<f64>,
    pub(super) kept: Vec<Vec<f64>>,
}

impl Surfaces {
    pub(super) fn new(
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
    pub(super) fn scale(&self, i: usize, fit: &Fit) -> Measured {
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
    pub(super) fn degree(&self) -> usize {
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

    pub(super) fn surface(&self, i: usize, degree: usize, fit: &Fit) -> Surface {
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
    pub(super) fn fit(&self, degree: usize, takes: &Takes<'_>) -> Fit {
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
            let (normal, right) = self.equations(&rows, &kept, (n, usual), (&numbers, takes));
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

    /// The normal equations of the patches that count, of the stars' ratios, and of what holds all small.
    fn equations(
        &self,
        rows: &[Vec<(usize, f64)>],
        kept: &[f64],
        (n, usual): (usize, f64),
        (numbers, takes): (&DVector<f64>, &Takes<'_>),
    ) -> (DMatrix<f64>, DVector<f64>) {
        let (count, scales_at) = (numbers.len(), n * self.domains.len());
        let mut normal = DMatrix::<f64>::zeros(count, count);
        let mut right = DVector::zeros(count);
        for ((r, row), k) in self.rows.iter().zip(rows).zip(kept) {
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
        (normal, right)
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
