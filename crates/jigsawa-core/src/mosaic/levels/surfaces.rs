//! The surfaces of a filter's frames, and how their scales change with them: one system over all patches that two frames
//! show, and over the ratios of their stars.

use crate::number::Convert;
use nalgebra::{DMatrix, DVector};

use super::numbering::{Degrees, FOLDS};
use super::scales::{FLAT, LEAST_ERROR, STAYS};
use super::{NEBULA_FAULT, Overlap, PATCH_FAULT, ToLevel, UNTOLD, middle};
use crate::balance::{BothSkies, Domain, Lattice, Polynomial, Surface};
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, median, quantile};
use crate::space::{CanvasPx, Point};

/// One patch's equation: the surface of `a` less that of `b` is `value`.
pub(super) struct Row {
    overlap: usize,
    pub(super) a: usize,
    pub(super) b: usize,
    at: Point<CanvasPx>,
    value: f64,
    pub(super) weight: f64,
    /// Balanced brightness of both above their darkest patches, which a scale's change multiplies.
    bright: (f64, f64),
    /// Variances of both by noise.
    noise2: (f64, f64),
    /// Patches are left out together by this.
    pub(super) fold: usize,
}

/// Which patches count.
pub(super) type Takes<'a> = dyn Fn(&Row) -> bool + Sync + 'a;

/// All patches of all overlaps, and what stars say of the scales.
pub(super) struct Surfaces {
    pub(super) rows: Vec<Row>,
    pub(super) domains: Vec<Domain>,
    pub(super) fixed: Vec<Option<Surface>>,
    counts: Vec<usize>,
    /// The scales that changes are counted from, what is expected of each change with how well that is known, and the
    /// value of each frame's darkest patches.
    scales: Vec<f64>,
    before: Vec<(f64, f64)>,
    dark: Vec<f64>,
    /// (a, b, by how much the ratio of the stars is larger than that of the scales, sigma).
    ratios: Vec<(usize, usize, f64, f64)>,
}

/// Patches this bright against their noise tell scales.
const BRIGHT: f64 = 4.0;

/// No fit makes a scale less than this part of what it was.
const LEAST_CHANGED: f64 = 0.05;

/// Numbers of all surfaces and the parts by which scales change, and what each patch has kept, by overlaps.
pub(super) struct Fit {
    pub(super) numbers: DVector<f64>,
    /// Covariances of the scales' changes.
    covariances: DMatrix<f64>,
    pub(super) kept: Vec<Vec<f64>>,
}

impl Fit {
    /// The error of the ratio of two frames' scales, as a part of it.
    pub(super) fn error_between(&self, a: usize, b: usize) -> f64 {
        let c = &self.covariances;
        let own = c[(a, a)] + c[(b, b)] - 2.0 * c[(a, b)];
        own.max(0.0).sqrt().max(LEAST_ERROR)
    }
}

impl Surfaces {
    pub(super) fn new(
        frames: &[ToLevel<'_>],
        (logs, expected): (&[f64], &[f64]),
        overlaps: &[Overlap],
        both: &[Vec<BothSkies>],
    ) -> Self {
        let scales: Vec<f64> = logs.iter().map(|l| l.exp()).collect();
        let dark: Vec<f64> = (0..frames.len())
            .map(|i| {
                let own = overlaps.iter().zip(both).flat_map(|(o, patches)| {
                    patches.iter().filter_map(move |p| match i {
                        _ if i == o.a => Some(p.reference.single()),
                        _ if i == o.b => Some(p.frame.single()),
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
                half: 0.5 * m.size.width().real().hypot(m.size.height().real()) / unit,
            }
        };
        let mut rows = Vec::new();
        for (k, (o, patches)) in overlaps.iter().zip(both).enumerate() {
            let lattice = frames[o.a].sky.samples.lattice();
            let noise = |i: usize| scales[i] * frames[i].sky.member.noise();
            let noise2 = [o.a, o.b].map(|i| noise(i).powi(2).max(1e-60));
            for p in patches {
                let points = p.filled * points(&lattice);
                let above = |i: usize, v: f64| scales[i] * (v - dark[i]);
                let bright = (above(o.a, p.reference), above(o.b, p.frame));
                let fault = NEBULA_FAULT * bright.0.abs().max(bright.1.abs());
                let part = 1.0 / points.max(1.0) + PATCH_FAULT * PATCH_FAULT;
                let noise2 = noise2.map(|n| part * n);
                let block = |v: f64| (v / (3.0 * lattice.patch_px().real())).index();
                rows.push(Row {
                    overlap: k,
                    a: o.a,
                    b: o.b,
                    at: p.at,
                    value: scales[o.b] * p.frame - scales[o.a] * p.reference,
                    weight: 1.0 / (noise2[0] + noise2[1] + fault * fault),
                    bright,
                    noise2: noise2.into(),
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
            before: (0..frames.len())
                .map(|i| match frames[i].kept {
                    Some(_) => (0.0, STAYS),
                    None => (expected[i] - logs[i], UNTOLD),
                })
                .collect(),
            ratios: overlaps
                .iter()
                .filter(|o| o.stars > 0)
                .filter_map(|o| {
                    let r = o.ratio.filter(|r| r.value > 0.0)?;
                    let more = r.value.ln() - (logs[o.b] - logs[o.a]);
                    Some((o.a, o.b, more, (r.sigma / r.value).max(LEAST_ERROR)))
                })
                .collect(),
            scales,
            dark,
        }
    }

    /// Logarithms of the scales with what the surfaces' fit has changed.
    pub(super) fn logs(&self, degrees: &Degrees, fit: &Fit) -> Vec<f64> {
        let changed = |i: usize| (1.0 + degrees.change(i, &fit.numbers)).max(LEAST_CHANGED);
        (0..self.scales.len())
            .map(|i| (self.scales[i] * changed(i)).ln())
            .collect()
    }

    pub(super) fn off(&self, r: &Row, degrees: &Degrees, numbers: &DVector<f64>) -> f64 {
        let of = |i: usize| self.surface_at(i, degrees, numbers, r.at);
        let scaled =
            degrees.change(r.a, numbers) * r.bright.0 - degrees.change(r.b, numbers) * r.bright.1;
        r.value - (of(r.a) - of(r.b)) - scaled
    }

    /// The same by the surfaces' terms of an equation, which end before those of the scales and the flat.
    fn off_by(
        &self,
        r: &Row,
        row: &[(usize, f64)],
        degrees: &Degrees,
        numbers: &DVector<f64>,
    ) -> f64 {
        let fixed = |i: usize| self.fixed[i].as_ref().map_or(0.0, |s| s.at(r.at));
        let own = &row[..row.len() - 3];
        let surfaces: f64 = own.iter().map(|(k, v)| v * numbers[*k]).sum();
        let scaled =
            degrees.change(r.a, numbers) * r.bright.0 - degrees.change(r.b, numbers) * r.bright.1;
        r.value - (fixed(r.a) - fixed(r.b)) - surfaces - scaled
    }

    fn surface_at(
        &self,
        i: usize,
        degrees: &Degrees,
        numbers: &DVector<f64>,
        at: Point<CanvasPx>,
    ) -> f64 {
        if let Some(fixed) = &self.fixed[i] {
            return fixed.at(at);
        }
        let row = Polynomial::row(self.domains[i], degrees.of[i], at);
        row.zip(degrees.numbers(i))
            .map(|(v, k)| v * numbers[k])
            .sum()
    }

    pub(super) fn surface(&self, i: usize, degrees: &Degrees, fit: &Fit) -> Surface {
        if let Some(fixed) = &self.fixed[i] {
            return fixed.clone();
        }
        let mut own: Vec<f64> = degrees.numbers(i).map(|k| fit.numbers[k]).collect();
        // A changed scale multiplies the dark sky, too; its patches were counted from there.
        own[0] -= degrees.change(i, &fit.numbers) * self.scales[i] * self.dark[i];
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
            _ => Surface::Polynomial(Polynomial::new(self.domains[i], degrees.of[i], own)),
        }
    }

    /// All surfaces of these degrees through some of the patches.
    pub(super) fn fit(&self, degrees: &Degrees, takes: &Takes<'_>) -> Fit {
        let frames = self.domains.len();
        let scales_at = degrees.scales_at();
        let flats_at = scales_at + frames;
        let count = flats_at + self.counts.len();
        let mut covariances = DMatrix::zeros(frames, frames);
        let mut numbers = DVector::<f64>::zeros(count);
        let mut kept = vec![1.0; self.rows.len()];
        let mut usual = self.usual_size();
        let terms = |r: &Row| -> Vec<(usize, f64)> {
            let surfaces = [(r.a, 1.0), (r.b, -1.0)]
                .into_iter()
                .filter(|(i, _)| self.fixed[*i].is_none())
                .flat_map(|(i, sign)| {
                    let row = Polynomial::row(self.domains[i], degrees.of[i], r.at);
                    degrees.numbers(i).zip(row).map(move |(k, v)| (k, sign * v))
                });
            // Last the scales and the overlap's flat, of which nothing is known yet.
            let scales = [scales_at + r.a, scales_at + r.b, flats_at + r.overlap];
            surfaces.chain(scales.map(|i| (i, 0.0))).collect()
        };
        let mut rows: Vec<Vec<(usize, f64)>> = self.rows.iter().map(terms).collect();
        let mut off: Vec<f64> = Vec::new();
        for round in 0..8 {
            self.look_through(&mut rows, &off);
            let (normal, right) = self.equations(&rows, &kept, (degrees, usual), (&numbers, takes));
            let Some(cholesky) = normal.cholesky() else {
                break;
            };
            numbers = cholesky.solve(&right);
            if round == 7 {
                let inverse = cholesky.inverse();
                let own = inverse.view((scales_at, scales_at), (frames, frames));
                covariances.copy_from(&own);
            }
            off.clear();
            let all = self.rows.iter().zip(&rows);
            off.extend(all.map(|(r, row)| self.off_by(r, row, degrees, &numbers)));
            let mut sizes: Vec<f32> = off
                .iter()
                .zip(&self.rows)
                .filter(|(_, r)| takes(r))
                .map(|(o, r)| (o.abs() * r.weight.sqrt()).single())
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
            if degrees.most() > 0 {
                let mut sizes: Vec<f32> = (0..frames)
                    .map(|i| degrees.size(i, &numbers).single())
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
            covariances,
            kept: by_overlap,
        }
    }

    /// Fills in what a scale's change does to each patch: its brightness without the noise that the patch's own
    /// difference shows (Deming 1943, Statistical Adjustment of Data). With that noise, the darker a patch the more would
    /// both frames seem to be alike if only both were multiplied by less. What is no brighter than noise says nothing.
    /// With `off`, what patches are off by so far; nothing before the first round.
    fn look_through(&self, rows: &mut [Vec<(usize, f64)>], off: &[f64]) {
        for ((r, row), off) in self.rows.iter().zip(rows).zip(off) {
            let (a, b) = r.noise2;
            let least = BRIGHT * (a * b / (a + b)).sqrt();
            let clear = |v: f64| if v.abs() > least { v } else { 0.0 };
            let [.., first, other, flat] = row.as_mut_slice() else {
                continue;
            };
            first.1 = clear(r.bright.0 + off * a / (a + b));
            other.1 = -clear(r.bright.1 - off * b / (a + b));
            flat.1 = 0.5 * (first.1 - other.1);
        }
    }

    /// The normal equations of the patches that count, of the stars' ratios, and of what holds all small.
    fn equations(
        &self,
        rows: &[Vec<(usize, f64)>],
        kept: &[f64],
        (degrees, usual): (&Degrees, f64),
        (numbers, takes): (&DVector<f64>, &Takes<'_>),
    ) -> (DMatrix<f64>, DVector<f64>) {
        let (count, scales_at) = (numbers.len(), degrees.scales_at());
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
        for (i, (to, allowed)) in self.before.iter().enumerate() {
            normal[(scales_at + i, scales_at + i)] += 1.0 / (allowed * allowed);
            right[scales_at + i] += to / (allowed * allowed);
        }
        for k in scales_at + self.scales.len()..count {
            normal[(k, k)] += 1.0 / (FLAT * FLAT);
        }
        // All frames multiplied by less would differ by less: on the whole the scales stay, where none is kept.
        if self.fixed.iter().all(Option::is_none) {
            for i in 0..self.scales.len() {
                for j in 0..self.scales.len() {
                    normal[(scales_at + i, scales_at + j)] += 1.0 / (STAYS * STAYS);
                }
            }
        }
        for i in 0..self.domains.len() {
            let allowed = 3.0 * usual.hypot(degrees.size(i, numbers));
            for (k, at) in degrees.numbers(i).enumerate() {
                let allowed = if k == 0 { 1e3 * allowed } else { allowed };
                normal[(at, at)] += 1.0 / (allowed * allowed);
            }
        }
        (normal, right)
    }

    /// By how much patches differ within their overlaps: about what surfaces have to do.
    fn usual_size(&self) -> f64 {
        let mut all: Vec<f32> = Vec::new();
        for k in 0..self.counts.len() {
            let of = self.rows.iter().filter(|r| r.overlap == k);
            let mut values: Vec<f32> = of.map(|r| r.value.single()).collect();
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
    (columns.len() * rows.len()).real()
}
