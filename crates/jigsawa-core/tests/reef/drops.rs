//! Undersampled frames dropped onto a finer canvas.

use jigsawa_core::balance::{Balance, Member, Surface};
use jigsawa_core::merge::{Budget, Input, Sampling, merge};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Map, Placement};
use jigsawa_core::plane::Plane;
use jigsawa_core::resample::{DropShape, Drops};
use jigsawa_core::robust::median;
use jigsawa_core::space::{CanvasPx, Size};
use jigsawa_core::stack::{
    DROPPED_PLANES, Dropped, Group, Light, LightSource, PLANES, Pass, Rejected, Rejection,
    Residuals, Stacked, Vetted,
};
use jigsawa_core::stars::{Settings, detect};
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::shot::StarTruth;

use crate::night::{Night, aperture, inner, shots};
use crate::setup::figure;

/// Undersampled frames whose pixels are dropped onto a canvas twice as fine, after a first stack has vetted them.
struct Finer {
    size: Size,
    placements: Vec<Placement>,
}

impl Finer {
    fn of(night: &Night) -> Self {
        let own = night.frames[0].size();
        let rows = [[0.5, 0.0, -0.25], [0.0, 0.5, -0.25], [0.0, 0.0, 1.0]];
        let to_first: Map<CanvasPx, CanvasPx> = Map::from_rows(rows).unwrap();
        Self {
            size: Size::new(2 * own.width(), 2 * own.height()).unwrap(),
            placements: night
                .placements
                .iter()
                .map(|p| to_first.then(p).unwrap())
                .collect(),
        }
    }

    fn dropped(&self, night: &Night, drops: Drops) -> Vec<Plane> {
        let n = night.frames.len();
        // Their skies are even: surfaces that were found on the first frame's pixels are levels on any canvas.
        let middle = night.frames[0].size().centre();
        let level = |b: Balance| Balance {
            surface: Surface::constant(b.surface.at(middle)),
            ..b
        };
        let balances: Vec<Balance> = night.balances().into_iter().map(level).collect();
        let members: Vec<Member<'_>> = (0..n)
            .map(|i| Member {
                placement: &self.placements[i],
                ..night.member(i)
            })
            .collect();
        let light = |(member, balance): (&Member<'_>, &Balance)| {
            Light::new(&LightSource {
                member: *member,
                balance,
                canvas: self.size,
                fwhm_px: 2.0 * night.catalogues[0].fwhm_px,
                noise: None,
            })
        };
        let lights: Vec<Light> = members.iter().zip(&balances).map(light).collect();
        let sky = night.catalogues[0].sky.typical_level();
        let rejection = Rejection::new(Rejection::rule_for(n, true), None, None);
        let group = || Group {
            inputs: 0..n,
            lights: lights.clone(),
            sky,
            rejection,
        };
        let inputs: Vec<Input<'_>> = (0..n)
            .map(|i| Input {
                sampling: Sampling::default().for_stars(Some(night.catalogues[i].fwhm_px)),
                ..Input::new(
                    &night.frames[i],
                    self.placements[i].clone(),
                    balances[i].clone(),
                )
            })
            .collect();
        let first = Stacked {
            groups: vec![group()],
            rejected: Rejected::new(self.size, n),
            pass: Pass::First(Residuals::new(self.size, n)),
        };
        let budget = Budget { bytes: 1 << 28 };
        let mut of_first = vec![Plane::filled(self.size, 0.0); PLANES];
        merge(
            &inputs,
            self.size,
            &first,
            budget,
            &mut of_first,
            &|_, _| (),
        )
        .unwrap();
        let vetted: Vec<Vetted<'_, &Plane>> = (0..n)
            .map(|i| Vetted {
                source: &night.frames[i],
                placement: &self.placements[i],
                balance: &balances[i],
                light: &lights[i],
                first: &of_first[0],
                sky,
                limits: rejection.against_a_stack(),
                streaks: &[],
                counts: Default::default(),
            })
            .collect();
        let dropping: Vec<Input<'_>> = (0..n)
            .map(|i| Input {
                drops: Some(drops),
                ..Input::new(&vetted[i], self.placements[i].clone(), balances[i].clone())
            })
            .collect();
        let op = Dropped {
            groups: vec![group()],
            spreads: vec![drops.spread(2.0, |_, _| true).single(); n],
        };
        let mut out = vec![Plane::filled(self.size, 0.0); DROPPED_PLANES];
        merge(&dropping, self.size, &op, budget, &mut out, &|_, _| ()).unwrap();
        out
    }

    /// What the canvas would show of the first frame's stars were there endless frames: the light that a pixel collects, over
    /// the drop and over the canvas's pixel.
    fn ideal(&self, night: &Night, side: f64) -> Plane {
        let shot = &night.shots[0];
        let profile = shot.optics.profile();
        let stars = night.stars();
        // The sum of two even distributions, as wide as the drop and as the canvas's pixel.
        let offsets: Vec<(f64, f64)> = (0..9)
            .map(|i| {
                let at = (f64::from(i) - 4.0) / 4.5 * 0.5 * (side + 0.5);
                let flat = 0.5 * (side - 0.5).abs();
                let height = (1.0 - (at.abs() - flat).max(0.0) / side.min(0.5)).max(0.0);
                (at, height)
            })
            .collect();
        let all: f64 = offsets.iter().map(|o| o.1).sum();
        let mut plane = Plane::filled(self.size, night.catalogues[0].sky.typical_level());
        let width = self.size.width();
        for s in stars.iter().filter(|s| s.flux > 800.0) {
            let (cx, cy) = (
                (2.0 * s.x + 0.5).round().whole(),
                (2.0 * s.y + 0.5).round().whole(),
            );
            for y in (cy - 14..=cy + 14).filter(|y| (0..self.size.height().whole()).contains(y)) {
                for x in (cx - 14..=cx + 14).filter(|x| (0..width.whole()).contains(x)) {
                    let (dx, dy) = (0.5 * (x.real() - 0.5) - s.x, 0.5 * (y.real() - 0.5) - s.y);
                    let mut light = 0.0;
                    for (u, wu) in &offsets {
                        for (v, wv) in &offsets {
                            light += wu * wv * profile.pixel(dx + u, dy + v);
                        }
                    }
                    let i = y.index() * width + x.index();
                    plane.data_mut()[i] += (s.flux * light / (all * all)).single();
                }
            }
        }
        plane
    }
}

#[test]
fn undersampled_frames_dropped_onto_a_finer_canvas_show_what_theory_allows() {
    let mut sharp = shots(32);
    for shot in &mut sharp {
        shot.size = Size::new(480, 380).unwrap();
        shot.optics = Optics::round(1.3);
        shot.transparency = 1.0;
        // A dark sky hides no star: their widths are what is looked at.
        shot.glow = SkyGlow::even(30.0);
    }
    let night = Night::take(sharp, |_, _| ());
    let finer = Finer::of(&night);
    let (ideal, stars) = (finer.ideal(&night, 0.7), night.stars());
    for (shape, number, wider) in [
        (DropShape::Square, 110, 0.03),
        (DropShape::Gaussian, 111, 0.16),
    ] {
        let drops = Drops {
            side_px: 0.7,
            shape,
        };
        let out = finer.dropped(&night, drops);
        let holes = inner(&out[0]).filter(|(.., v)| !v.is_finite()).count();
        assert_eq!(holes, 0);
        let area: f64 = inner(&out[1]).map(|(.., a)| f64::from(a)).sum::<f64>();
        let mean = area / inner(&out[1]).count().real();
        // Half of each pixel's area falls, from thirty-two frames.
        assert!((mean / (32.0 * 0.49) - 1.0).abs() < 0.06, "{mean}");
        let width = |p: &Plane| detect(p, None, &Settings::default()).unwrap().fwhm_px;
        let ratio = width(&out[0]) / width(&ideal);
        let what = format!(
            "{shape:?} drops of 0.7 px of 32 frames with stars of 1.3 px, on a canvas twice as fine"
        );
        let inside = |s: &&StarTruth| {
            s.x > 30.0
                && s.y > 30.0
                && s.x < 450.0
                && s.y < 350.0
                && !s.saturated
                && s.flux > 2500.0
        };
        let mut off: Vec<f32> = stars
            .iter()
            .filter(inside)
            .map(|s| {
                let at = (2.0 * s.x + 0.5, 2.0 * s.y + 0.5);
                // A canvas pixel has a quarter of the area, and values are surface brightness.
                (aperture(&out[0], at, 9.0) / aperture(&ideal, at, 9.0) - 1.0).single()
            })
            .collect();
        assert!(off.len() > 8, "{}", off.len());
        let flux = f64::from(median(&mut off));
        figure(
            number,
            &format!(
                "{what}: width of stars against theory, their light (asked: 3 %, 0.5 %), holes"
            ),
            &format!(
                "{:+.1} %, {:+.2} %, {holes}",
                100.0 * (ratio - 1.0),
                100.0 * flux
            ),
        );
        assert!(ratio - 1.0 < wider && ratio > 0.97, "{ratio}");
        assert!(flux.abs() < 0.005, "{flux}");
    }
}
