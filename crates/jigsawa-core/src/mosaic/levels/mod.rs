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

mod surfaces;

use nalgebra::{DMatrix, DVector};

use crate::balance::scale::{CommonStar, LEAST_SNR, bend_of, good_stars, star_scale};
use crate::balance::{
    Balance, BothSkies, Member, ScaleBy, Sky, Surface, both_skies, exposure_or_none, nebula_scale,
};
use crate::balance::{Weigh, weight};
use crate::measured::Measured;
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, median};
use crate::space::{CanvasPx, Point};
use surfaces::Surfaces;

/// Degrees of the surfaces that are tried.
const DEGREES: [usize; 4] = [0, 1, 2, 3];

/// A higher degree must foretell unseen patches better by this part of the mean square.
const WORTH_IT: f64 = 0.05;

/// What is wrong with a patch besides its noise, in parts of the pixels' own: faint stars, and flats.
const PATCH_FAULT: f64 = 0.05;

/// Without a star in common, exposures and gains tell the scale to this.
const UNTOLD: f64 = 0.3;

/// Stars this bright, in sigma, tell a scale where there are too few brighter ones, and what their luck may do to it.
const FAINT_SNR: f64 = 6.0;
const FAINT_ERROR: f64 = 0.01;

/// A scale that is less sure than this is worth a word.
const WEAK: f64 = 0.1;

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
    /// By what part the ratio of stars changes over a factor of ten in brightness, where one of both is not linear.
    pub bent: Option<f64>,
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
    let (mut overlaps, both) = compared(frames, same);
    let anchor = match frames.iter().position(|f| f.kept.is_some()) {
        Some(kept) => kept,
        None => deepest(frames, &overlaps),
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
                notes: doubts(&overlaps, i, scale, anchor),
                surface: surface(i).plus(Surface::constant(raise)),
                ..Balance::unchanged(
                    f64::from(sky.typical_level()),
                    frames[i].sky.member.catalogue.noise.pixel(),
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
            let noise = balance.scale.value * frames[i].sky.member.noise();
            balance.residual_sigma = f64::from(median(&mut off)) * MAD_TO_SIGMA / noise.max(1e-30);
        }
        let both = (&frames[anchor].sky.member, &frames[i].sky.member);
        balance.weight = weight(Weigh::Noise, both.0, both.1, balance);
    }
    Levelled {
        balances,
        overlaps,
        anchor,
        degree,
    }
}

/// All overlaps with what their stars say, and the skies of both.
fn compared(frames: &[ToLevel<'_>], same: &SameStars<'_>) -> (Vec<Overlap>, Vec<Vec<BothSkies>>) {
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
            let stars: Vec<CommonStar> = good_stars(ma, mb, pairs.clone(), LEAST_SNR);
            let lattice = frames[a].sky.samples.lattice();
            let faint: Vec<CommonStar> = good_stars(ma, mb, pairs, FAINT_SNR);
            let found = star_scale(&stars)
                .or_else(|| faint_scale(&faint))
                .or_else(|| nebula_scale(&patches, lattice));
            let ratio = found.map(|f| f.0);
            overlaps.push(Overlap {
                a,
                b,
                ratio,
                bent: ratio.and_then(|r| bend_of(&faint, r.value)),
                stars: found.map_or(0, |f| f.1),
                patches: Vec::new(),
            });
            both.push(patches);
        }
    }
    (overlaps, both)
}

/// The scale by stars that are fainter than usual, where brighter ones are too few. What is detected at the limit is
/// there with luck, a little more in the frame that shows less.
fn faint_scale(stars: &[CommonStar]) -> Option<(Measured, usize)> {
    let (scale, used) = star_scale(stars)?;
    let lucky = Measured {
        value: 1.0,
        sigma: FAINT_ERROR,
    };
    Some((scale.times(lucky), used))
}

/// Does anything measured tie the frame's scale to another's?
fn is_tied(overlaps: &[Overlap], i: usize) -> bool {
    overlaps
        .iter()
        .any(|o| (o.a == i || o.b == i) && o.ratio.is_some())
}

/// What is doubtful of a frame's scale.
fn doubts(overlaps: &[Overlap], i: usize, scale: Measured, anchor: usize) -> Vec<String> {
    let mut doubts = Vec::new();
    if i != anchor && !is_tied(overlaps, i) {
        doubts.push(format!(
            "nothing in its overlaps ties its brightness to the others': it is scaled by exposures, which know nothing of \
             clouds ({:.0} %)",
            100.0 * scale.sigma / scale.value
        ));
    } else if i != anchor && scale.sigma > WEAK * scale.value {
        doubts.push(format!(
            "its scale rests on little: {:.3} \u{b1} {:.3}. Look at its seams",
            scale.value, scale.sigma
        ));
    }
    let own: Vec<&Overlap> = overlaps.iter().filter(|o| o.a == i || o.b == i).collect();
    let bent = own.iter().filter_map(|o| o.bent);
    // Of two one is not linear; the one that is so in most of its overlaps.
    if 2 * bent.clone().count() > own.iter().filter(|o| o.stars > 0).count()
        && let Some(most) = bent.max_by(|a, b| a.abs().total_cmp(&b.abs()))
    {
        doubts.push(format!(
            "the ratio of its stars to a neighbour's changes by {:.1} % for stars ten times as bright: one of the two is not \
             linear (stretched, or stars near saturation)",
            100.0 * most.abs()
        ));
    }
    doubts
}

/// The frame whose pixels have the least noise after scaling, of those that anything ties to the others.
fn deepest(frames: &[ToLevel<'_>], overlaps: &[Overlap]) -> usize {
    let scales = scales(frames, overlaps, 0);
    let noise = |i: usize| scales[i].value * frames[i].sky.member.noise_of_area();
    let sound: Vec<usize> = (0..frames.len()).filter(|i| noise(*i) > 0.0).collect();
    let tied: Vec<usize> = sound
        .iter()
        .copied()
        .filter(|i| is_tied(overlaps, *i))
        .collect();
    let of = if tied.is_empty() { sound } else { tied };
    of.into_iter()
        .min_by(|a, b| noise(*a).total_cmp(&noise(*b)))
        .unwrap_or(0)
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
