//! Errors that are told are true: over many made-up frames 60 to 76 % of what is off lies within the told one sigma.
//! For exposures merged `hdr.rs` holds it.

use jigsawa_core::balance::{
    BalanceSettings as Levels, Lattice, Member, Samples, ScaleBy, Sky, match_scaled, match_to,
};
use jigsawa_core::filter::Filter;
use jigsawa_core::matching::{MatchSettings, Matched, match_frames, spots};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Map, Placement, Registration};
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{FramePx, Point, ReferencePx, Size};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::levels::Other;
use jigsawa_sky::master::resampled;
use jigsawa_sky::optics::Wings;

use crate::setup::figure;

fn find(plane: &Plane) -> Catalogue {
    detect(plane, Some(62_000.0), &Settings::default()).unwrap()
}

/// Pairs in all the ways that frames differ: seeing, brightness, numbers of stars, hands that they went through.
fn pairs(count: u64) -> impl Iterator<Item = (Other, bool)> {
    (0..count).map(|seed| {
        let part = |k: u64| (seed * k % 17).real() / 16.0;
        let other = Other {
            filter: Filter::R,
            stars: 40 + 12 * (seed.index() % 13),
            transparency: 0.6 + 0.5 * part(5),
            fwhm_px: 2.7 + 1.2 * part(7),
            glow: SkyGlow::even(250.0 + 300.0 * part(3)),
            shift: (8.0 * part(11) - 4.0, 6.0 * part(13) - 3.0),
            turn_deg: 0.6 * part(9) - 0.3,
            nebula: false,
            size: (560, 420),
            seed: 4000 + seed,
        };
        (other, seed % 2 == 1)
    })
}

/// The part of some pulls that lies within one.
fn within(pulls: &[f64]) -> f64 {
    pulls.iter().filter(|p| p.abs() < 1.0).count().real() / pulls.len().real()
}

/// What resampling moves the soft ones by.
const MOVED: (f64, f64) = (-0.4, -0.3);

/// Both frames of a pair from their pixels, in one noise or another.
struct Pair {
    planes: [Plane; 2],
    stars: [Catalogue; 2],
    size: Size,
    truth: Registration,
}

impl Pair {
    fn take(other: &Other, soft: bool, seed: u64) -> Self {
        let [(a, p), (b, q)] = other.take_as(|shot, _| {
            shot.optics.wings = Some(Wings::USUAL);
            shot.seed += 100_000 * seed;
        });
        let second = if soft {
            resampled(&q.plane, (0.4, 0.3), 3)
        } else {
            q.plane
        };
        Self {
            stars: [find(&p.plane), find(&second)],
            planes: [p.plane, second],
            size: a.size,
            truth: a.map().invert().then(&b.map()).unwrap().retyped(),
        }
    }

    fn matched(&self) -> Option<Matched> {
        let spots = (
            spots::<ReferencePx>(&self.stars[0]),
            spots::<FramePx>(&self.stars[1]),
        );
        let sizes = (self.size, self.size);
        match_frames(&spots.0, &spots.1, sizes, &MatchSettings::default()).ok()
    }

    /// The frame's sky under a map; the reference has none.
    fn sky<'a>(&'a self, i: usize, placement: &'a Placement) -> Sky<'a> {
        let lattice = Lattice::over(self.size);
        Sky {
            member: Member {
                catalogue: &self.stars[i],
                placement,
                size: self.size,
                filter: &Filter::R,
                exposure_s: None,
                gain_e_adu: None,
            },
            samples: Samples::take(
                &self.planes[i],
                placement,
                &self.stars[i],
                Some(62_000.0),
                lattice,
            ),
        }
    }

    /// The corner that a map knows least of: the one farthest from what it rests on.
    fn worst_corner(&self, found: &Matched) -> Point<ReferencePx> {
        let n = found.pairs.len().real();
        let at = |p: &(usize, usize)| self.stars[0].stars[p.0].at;
        let x = found.pairs.iter().map(|p| at(p).x).sum::<f64>() / n;
        let y = found.pairs.iter().map(|p| at(p).y).sum::<f64>() / n;
        let corners = self.size.corners::<ReferencePx>();
        let far = |c: &&Point<ReferencePx>| (c.x - x).hypot(c.y - y);
        *corners
            .iter()
            .max_by(|a, b| far(a).total_cmp(&far(b)))
            .unwrap()
    }
}

#[test]
fn corners_scales_and_skies_are_as_sure_as_they_are_told() {
    let (mut corners, mut scales, mut skies) = (Vec::new(), Vec::new(), Vec::new());
    for (other, soft) in pairs(90) {
        let pair = Pair::take(&other, soft, 0);
        let Some(found) = pair.matched() else {
            continue;
        };
        let moved = if soft { MOVED } else { (0.0, 0.0) };
        let corner = pair.worst_corner(&found);
        let (is, told) = (found.map.apply(corner), pair.truth.apply(corner));
        corners.push((is.x - told.x - moved.0) / found.errors.corner_sigma_px);
        corners.push((is.y - told.y - moved.1) / found.errors.corner_sigma_px);

        let placements: [Placement; 2] = [Map::shift(0.0, 0.0), found.map.retyped()];
        let both = [pair.sky(0, &placements[0]), pair.sky(1, &placements[1])];
        let b = match_to(&both[0], &both[1], &Levels::default())
            .unwrap()
            .balance;
        if b.scale_by == ScaleBy::Stars {
            scales
                .push((b.scale.value * other.transparency - 1.0) / (b.scale.sigma / b.scale.value));
        }
        // The same sky in another noise: what the surface leaves of it.
        // Each has some hundred patches.
        let Some(unseen) = b.crossval_sigma.filter(|_| scales.len().is_multiple_of(8)) else {
            continue;
        };
        let again = Pair::take(&other, soft, 1);
        let both_again = [again.sky(0, &placements[0]), again.sky(1, &placements[1])];
        let scale = (b.scale, b.scale_by, b.stars);
        let seen = match_scaled(&both_again[0], &both_again[1], scale, None).unwrap();
        let told = unseen * pair.stars[0].noise.deep();
        for (patch, _) in &seen.evidence.patches {
            let left = patch.difference - b.surface.at(Point::new(patch.x, patch.y));
            skies.push(left / told);
        }
    }
    // What wings may hide where few stars tell counts for a little more than it hides: so more scales lie within.
    for (number, what, pulls, least, most) in [
        (150, "errors of corners", &corners, 150, 0.76),
        (151, "errors of star scales", &scales, 80, 0.80),
        (152, "patches of sky in another noise", &skies, 4_000, 0.76),
    ] {
        let part = within(pulls);
        figure(
            number,
            &format!("{what} within one told sigma"),
            &format!("{:.0} % of {}", 100.0 * part, pulls.len()),
        );
        assert!(pulls.len() > least);
        assert!((0.60..=most).contains(&part), "{what}: {part}");
    }
}
