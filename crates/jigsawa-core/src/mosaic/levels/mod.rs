//! One balance for all panels of a filter: scales from the stars that panels share, low surfaces from all overlaps
//! together.
//!
//! All stars that two frames or more show give the scales, faint ones and few ones, too (`scales`). Each patch of sky
//! that two frames show then says by how much their surfaces differ there. Surfaces are polynomials over each frame, of
//! the lowest degree that foretells patches left out in turn; nebula cancels in a difference, so all patches without
//! stars count. Where it is bright it tells the scales better than a handful of stars do, so that these are solved for
//! once more together with the surfaces, the stars' ratios among the equations: half a percent of a bright nebula would
//! be a step of its own.
//!
//! Overlaps tell only how panels differ: a surface added to all of them at once changes no overlap. Of all solutions
//! the one with the least correction is taken, so that nothing is tilted for nothing; frames that need much (one
//! under a moon) count less in that, since what they have is no measure of the true sky (Cauchy's weights). Panels
//! matched to their neighbours one after the other were the simpler way: a tilt grows along the row.

mod degrees;
mod numbering;
mod scales;
mod surfaces;

use crate::balance::{Balance, BothSkies, Member, ScaleBy, Sky, Surface, both_skies};
use crate::balance::{Weigh, weight};
use crate::measured::Measured;
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::{CanvasPx, Point};

use super::tracks::groups;
use scales::{Scales, Tie, bent, expected, solve, ties};
use surfaces::{Fit, Surfaces};

/// Degrees of the surfaces that are tried.
const DEGREES: [usize; 4] = [0, 1, 2, 3];

/// A higher degree must foretell unseen patches better by this part of the mean square.
const WORTH_IT: f64 = 0.05;

/// What is wrong with a patch besides its noise, in parts of the pixels' own: faint stars, and flats.
const PATCH_FAULT: f64 = 0.05;

/// Without a star in common, exposures and gains tell the scale to this.
const UNTOLD: f64 = 0.3;

/// A scale that is less sure than this is worth a word.
const WEAK: f64 = 0.1;

/// A panel that must be multiplied by more was not taken for this mosaic.
const OTHER_DEPTH: f64 = 8.0;

/// And one that is less sure than this is not known.
const UNKNOWN: f64 = 0.2;

/// A nebula's brightness tells a scale no better than this, patch by patch: flats and optics differ.
const NEBULA_FAULT: f64 = 0.003;

/// Two frames of a filter that overlap.
#[derive(Debug, Clone)]
pub struct Overlap {
    /// The first frame.
    pub a: usize,
    /// The other.
    pub b: usize,
    /// What makes the other's values the first's, by those of their stars that agree with all others.
    pub ratio: Option<Measured>,
    /// Those stars.
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
    /// Highest degree of the surfaces.
    pub degree: usize,
    /// Of each frame whose scale is known: logarithm of the factor by which it is larger than exposures tell, against
    /// the mean of all.
    pub weather: Vec<Option<f64>>,
}

/// A frame of the filter, and its balance if that is to stay.
#[derive(Debug, Clone)]
pub struct ToLevel<'a> {
    /// The frame.
    pub sky: Sky<'a>,
    /// What it has already.
    pub kept: Option<Balance>,
    /// What the same panel's frames in other filters say of its night: logarithm of the factor by which its scale is
    /// expected to be larger than exposures tell; 0 where nothing is known.
    pub weather: f64,
}

/// Stars of two frames that are the same, as places in their catalogues.
pub type SameStars<'a> = dyn Fn(usize, usize) -> Vec<(usize, usize)> + Sync + 'a;

/// Brings the frames of a filter together. The values of the frame with the least noise, once all are scaled, stay what
/// they are in its middle; or those of the frames that are kept.
pub fn level(frames: &[ToLevel<'_>], same: &SameStars<'_>) -> Levelled {
    let ties = ties(frames, same);
    let first = solve(frames, &ties);
    let (mut overlaps, both) = compared(frames, &ties, &first);
    let expected = expected(frames);
    // Where only nebula tells a scale it may change by much: patches are weighed by the new ones once more.
    let begun = Surfaces::new(frames, (&first.logs, &expected), &overlaps, &both);
    let degrees = begun.degrees();
    let logs = begun.logs(&degrees, &begun.fit(&degrees, &|_| true));
    let surfaces = Surfaces::new(frames, (&logs, &expected), &overlaps, &both);
    let fit = surfaces.fit(&degrees, &|_| true);
    let logs = surfaces.logs(&degrees, &fit);
    let bent = bent(frames.len(), &ties, &logs);
    let anchor = match frames.iter().position(|f| f.kept.is_some()) {
        Some(kept) => kept,
        None => deepest(frames, &logs, &fit),
    };
    let scaled = Scaled {
        anchor,
        unit: match frames[anchor].kept {
            Some(_) => 1.0,
            None => (-logs[anchor]).exp(),
        },
        logs: &logs,
        fit: &fit,
    };
    let surface = |i: usize| surfaces.surface(i, &degrees, &fit).scaled(scaled.unit);
    let raise = match frames[anchor].kept {
        Some(_) => 0.0,
        None => -surface(anchor).at(middle(&frames[anchor].sky.member)),
    };
    let mut balances: Vec<Balance> = (0..frames.len())
        .map(|i| {
            if let Some(kept) = &frames[i].kept {
                return kept.clone();
            }
            let sky = &frames[i].sky.member.catalogue.sky;
            let scale = scaled.of(i);
            let (by, stars) = rests_on(&overlaps, i, scale, anchor);
            Balance {
                scale,
                scale_by: by,
                stars,
                notes: doubts(i, scale, anchor, bent[i]),
                surface: surface(i).plus(Surface::constant(raise)),
                ..Balance::unchanged(
                    f64::from(sky.typical_level()),
                    frames[i].sky.member.catalogue.noise.pixel(),
                )
            }
        })
        .collect();
    what_is_left(&mut overlaps, &balances, &both, &fit);
    for (i, balance) in balances.iter_mut().enumerate() {
        if frames[i].kept.is_some() {
            continue;
        }
        let own: Vec<&Shared> = overlaps
            .iter()
            .filter(|o| o.a == i || o.b == i)
            .flat_map(|o| &o.patches)
            .collect();
        let mut off: Vec<f32> = own.iter().map(|p| p.after.abs().single()).collect();
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
        degree: degrees.most(),
        weather: weather(frames, &expected, &scaled),
    }
}

/// Scales against one frame's.
struct Scaled<'a> {
    anchor: usize,
    /// What the anchor's scale is multiplied by to be one.
    unit: f64,
    logs: &'a [f64],
    fit: &'a Fit,
}

impl Scaled<'_> {
    fn of(&self, i: usize) -> Measured {
        if i == self.anchor {
            return Measured::exact(self.unit * self.logs[i].exp());
        }
        let value = self.unit * self.logs[i].exp();
        Measured {
            value,
            sigma: self.fit.error_between(i, self.anchor) * value,
        }
    }
}

/// What the scales that are known say of the air, beyond exposures.
fn weather(frames: &[ToLevel<'_>], expected: &[f64], scaled: &Scaled<'_>) -> Vec<Option<f64>> {
    let known = |i: usize| {
        let scale = scaled.of(i);
        (scale.sigma < WEAK * scale.value)
            .then(|| scaled.logs[i] - (expected[i] - frames[i].weather))
    };
    let all: Vec<Option<f64>> = (0..expected.len()).map(known).collect();
    let mean = all.iter().flatten().sum::<f64>() / all.iter().flatten().count().max(1).real();
    all.into_iter().map(|w| w.map(|w| w - mean)).collect()
}

/// All overlaps with what their stars say, and the skies of both.
fn compared(
    frames: &[ToLevel<'_>],
    ties: &[Tie],
    scales: &Scales,
) -> (Vec<Overlap>, Vec<Vec<BothSkies>>) {
    let mut overlaps = Vec::new();
    let mut both: Vec<Vec<BothSkies>> = Vec::new();
    for a in 0..frames.len() {
        for b in a + 1..frames.len() {
            let patches = both_skies(&frames[a].sky.samples, &frames[b].sky.samples);
            let tie = ties.iter().position(|t| (t.a, t.b) == (a, b));
            if patches.is_empty() && tie.is_none() {
                continue;
            }
            let said = tie.and_then(|k| scales.said[k]);
            overlaps.push(Overlap {
                a,
                b,
                ratio: said.map(|s| s.ratio),
                stars: said.map_or(0, |s| s.stars),
                patches: Vec::new(),
            });
            both.push(patches);
        }
    }
    (overlaps, both)
}

/// Fills in what is left in the overlaps' patches.
fn what_is_left(
    overlaps: &mut [Overlap],
    balances: &[Balance],
    both: &[Vec<BothSkies>],
    fit: &Fit,
) {
    for (k, (o, patches)) in overlaps.iter_mut().zip(both).enumerate() {
        let (a, b) = (&balances[o.a], &balances[o.b]);
        let one = |(p, kept): (&BothSkies, &f64)| {
            let (first, other) = (a.apply(p.reference, p.at), b.apply(p.frame, p.at));
            Shared {
                at: p.at,
                before: p.reference - p.frame,
                after: first - other,
                mean: 0.5 * (first + other),
                kept: *kept,
            }
        };
        o.patches = patches.iter().zip(&fit.kept[k]).map(one).collect();
    }
}

/// What is doubtful of a frame's scale.
fn doubts(i: usize, scale: Measured, anchor: usize, bent: Option<f64>) -> Vec<String> {
    let mut doubts = Vec::new();
    let part = scale.sigma / scale.value;
    if i != anchor && part > UNKNOWN {
        doubts.push(format!(
            "nothing in its overlaps ties its brightness to the others': it is scaled by exposures, which know nothing of \
             clouds (\u{b1} {:.0} %)",
            100.0 * part
        ));
    } else if i != anchor && part > WEAK {
        doubts.push(format!(
            "its scale rests on little: {:.3} \u{b1} {:.3}. Look at its seams",
            scale.value, scale.sigma
        ));
    }
    if scale.value > OTHER_DEPTH {
        doubts.push(format!(
            "it shows {:.0} times less light than the reference, a short exposure among long ones: its part will be noisy. \
             Exposures are merged by hdr",
            scale.value
        ));
    }
    if let Some(bent) = bent {
        doubts.push(format!(
            "the ratio of its stars to a neighbour's changes by {:.1} % for stars ten times as bright: one of the two is not \
             linear (stretched, or stars near saturation)",
            100.0 * bent.abs()
        ));
    }
    doubts
}

/// The frame whose pixels have the least noise after scaling, of the most that are tied to each other.
fn deepest(frames: &[ToLevel<'_>], logs: &[f64], fit: &Fit) -> usize {
    let n = frames.len();
    let noise = |i: usize| logs[i].exp() * frames[i].sky.member.noise_of_area();
    let all = (0..n).flat_map(|a| (a + 1..n).map(move |b| (a, b)));
    let tied = all.filter(|(a, b)| fit.error_between(*a, *b) < WEAK);
    groups(n, tied)
        .into_iter()
        .find_map(|g| {
            let sound = g.into_iter().filter(|i| noise(*i) > 0.0);
            sound.min_by(|a, b| noise(*a).total_cmp(&noise(*b)))
        })
        .unwrap_or(0)
}

fn middle(m: &Member<'_>) -> Point<CanvasPx> {
    m.placement.invert().apply(m.size.centre())
}

/// What the scale of a frame rests on, and how many stars.
fn rests_on(overlaps: &[Overlap], i: usize, scale: Measured, anchor: usize) -> (ScaleBy, usize) {
    let own = overlaps.iter().filter(|o| o.a == i || o.b == i);
    match own.map(|o| o.stars).sum() {
        _ if i == anchor => (ScaleBy::Reference, 0),
        _ if scale.sigma > UNKNOWN * scale.value => (ScaleBy::Exposure, 0),
        0 => (ScaleBy::Signal, 0),
        stars => (ScaleBy::Stars, stars),
    }
}
