//! A night of one filter of the made-up sky, and its stack as the program makes it.

use jigsawa_core::balance::{
    Balance, BalanceSettings, Lattice, Member, Samples, Sky, Weigh, match_to, weight,
};
use jigsawa_core::filter::Filter;
use jigsawa_core::merge::{Budget, Input, Sampling, merge, merge_parts, parts};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Map, Placement};
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::median;
use jigsawa_core::space::{CanvasPx, Rect, Size};
use jigsawa_core::stack::{
    Group, Light, LightSource, PLANES, Pass, Rejected, Rejection, Residuals, Rule, Stacked, Streak,
    streaks, weigh_places,
};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::camera::{Camera, Numbers};
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::{Shot, StarTruth};
use jigsawa_sky::spoilt::Spoilt;
use jigsawa_sky::stars::Crowd;

/// A night of one filter, on the first frame's pixels.
pub struct Night {
    pub shots: Vec<Shot>,
    pub frames: Vec<Plane>,
    pub catalogues: Vec<Catalogue>,
    pub placements: Vec<Placement>,
}

pub const SIDES: (usize, usize) = (720, 520);

/// Seeing from 2.2 to 3.5 px and transparency from 1 to 0.6, both without order; dithered, and turned a little.
pub fn shots(n: usize) -> Vec<Shot> {
    let part = |i: usize, k: f64| (0.5 + k * (i.real() + 1.0)).fract();
    (0..n)
        .map(|i| {
            let (a, b) = (part(i, 0.754_877_666), part(i, 0.569_840_291));
            let (c, d) = (part(i, 0.618_033_989), part(i, 0.414_213_562));
            Shot {
                filter: Filter::R,
                size: Size::new(SIDES.0, SIDES.1).unwrap(),
                pointing: Pointing {
                    turn_deg: 0.4 * (a - 0.5),
                    ..Pointing::at(900.0 + 16.0 * (a - 0.5), 700.0 + 16.0 * (b - 0.5))
                },
                // The median of 24 nights is the reference's.
                optics: Optics::round(if i == 0 { 2.6 } else { 2.2 + 1.3 * c }),
                camera: Camera {
                    numbers: Numbers::Sixteen,
                    ..Camera::usual()
                },
                glow: SkyGlow {
                    across: 20.0 * (d - 0.5),
                    along: 14.0 * (a - 0.5),
                    ..SkyGlow::even(150.0 * (1.0 + 0.2 * (d - 0.5)))
                },
                transparency: if i == 0 { 1.0 } else { 0.6 + 0.4 * d },
                spoilt: Spoilt::default(),
                subs: 1,
                seed: 9100 + i as u64,
            }
        })
        .collect()
}

fn over(shots: &[Shot]) -> Clouds {
    let extents = shots.iter().map(Shot::extent);
    let all = extents.reduce(|a, b| (a.0.min(b.0), a.1.min(b.1), a.2.max(b.2), a.3.max(b.3)));
    Clouds::over(all.unwrap())
}

impl Night {
    /// Takes it; `spoil` may change what the camera gave.
    pub fn take(shots: Vec<Shot>, spoil: impl Fn(usize, &mut Plane)) -> Self {
        let clouds = over(&shots);
        let crowd = Crowd::lantern_reef();
        let mut frames = Vec::new();
        for (i, shot) in shots.iter().enumerate() {
            let mut plane = shot.take(&crowd, Some(&clouds)).plane;
            spoil(i, &mut plane);
            frames.push(plane);
        }
        let full = Some(Camera::usual().full_adu.single());
        let catalogues = frames
            .iter()
            .map(|f| detect(f, full, &Settings::default()).unwrap())
            .collect();
        let first = shots[0].map();
        let back: Map<CanvasPx, _> = first.invert().retyped();
        let placements = shots.iter().map(|s| back.then(&s.map()).unwrap()).collect();
        Self {
            shots,
            frames,
            catalogues,
            placements,
        }
    }

    /// The same night's light, without noise and without what spoils it.
    pub fn truth(&self) -> Vec<Plane> {
        let clouds = over(&self.shots);
        let crowd = Crowd::lantern_reef();
        let clean = |s: &Shot| Shot {
            spoilt: Spoilt::default(),
            ..s.clone()
        };
        let all = self.shots.iter().map(clean);
        all.map(|s| s.truth(&crowd, Some(&clouds))).collect()
    }

    /// The stars of the first frame as they are.
    pub fn stars(&self) -> Vec<StarTruth> {
        let clouds = over(&self.shots);
        let taken = self.shots[0].take(&Crowd::lantern_reef(), Some(&clouds));
        taken.truth.stars
    }

    pub fn member(&self, i: usize) -> Member<'_> {
        Member {
            catalogue: &self.catalogues[i],
            placement: &self.placements[i],
            size: self.frames[i].size(),
            filter: &Filter::R,
            exposure_s: Some(180.0),
            gain_e_adu: Some(self.shots[i].camera.gain_e_adu),
        }
    }

    pub fn balances(&self) -> Vec<Balance> {
        let size = self.frames[0].size();
        let lattice = Lattice::over(size);
        let full = Some(Camera::usual().full_adu.single());
        let sky = |i: usize| Sky {
            member: self.member(i),
            samples: Samples::take(
                &self.frames[i],
                &self.placements[i],
                &self.catalogues[i],
                full,
                lattice,
            ),
        };
        let reference = sky(0);
        (0..self.frames.len())
            .map(|i| {
                if i == 0 {
                    return Balance::identity(&self.catalogues[0]);
                }
                let matched = match_to(&reference, &sky(i), &BalanceSettings::default()).unwrap();
                let own = matched.balance;
                let by = weight(Weigh::Noise, &reference.member, &self.member(i), &own);
                Balance { weight: by, ..own }
            })
            .collect()
    }

    pub fn lights(&self, balances: &[Balance]) -> Vec<Light> {
        let members: Vec<Member<'_>> = (0..balances.len()).map(|i| self.member(i)).collect();
        let mut widths: Vec<f32> = members
            .iter()
            .map(|m| m.fwhm_on_canvas().single())
            .collect();
        let fwhm_px = f64::from(median(&mut widths));
        let light = |(member, balance): (&Member<'_>, &Balance)| {
            Light::new(&LightSource {
                member: *member,
                balance,
                canvas: self.frames[0].size(),
                fwhm_px,
                noise: None,
            })
        };
        let mut lights: Vec<Light> = members.iter().zip(balances).map(light).collect();
        weigh_places(&mut lights, &members, self.frames[0].size());
        lights
    }

    /// Stacks planes that lie as the night's frames do, as the program does.
    pub fn stack(&self, planes: &[Plane], balances: &[Balance], rule: Option<Rule>) -> Stack {
        self.stack_of(planes, balances, rule, self.lights(balances))
    }

    /// The same with what each frame counts.
    pub fn stack_of(
        &self,
        planes: &[Plane],
        balances: &[Balance],
        rule: Option<Rule>,
        lights: Vec<Light>,
    ) -> Stack {
        let n = planes.len();
        let size = planes[0].size();
        let inputs: Vec<Input<'_>> = (0..n)
            .map(|i| Input {
                saturation: Camera::usual().full_adu.single(),
                sampling: Sampling::default().for_stars(Some(self.catalogues[i].fwhm_px)),
                ..Input::new(&planes[i], self.placements[i].clone(), balances[i].clone())
            })
            .collect();
        let rule = rule.unwrap_or(Rejection::rule_for(n, true));
        let mut op = Stacked {
            groups: vec![Group {
                inputs: 0..n,
                lights,
                sky: self.catalogues[0].sky.typical_level(),
                rejection: Rejection::new(rule, None, None),
            }],
            rejected: Rejected::new(size, n),
            pass: Pass::First(Residuals::new(size, n)),
        };
        let budget = Budget { bytes: 1 << 28 };
        let mut planes = vec![Plane::filled(size, 0.0); PLANES];
        merge(&inputs, size, &op, budget, &mut planes, &|_, _| ()).unwrap();
        let mut found = vec![Vec::new(); n];
        if let Pass::First(residuals) = &op.pass
            && rule != Rule::None
        {
            found = (0..n).map(|k| streaks(&residuals.plane(k))).collect();
        }
        if found.iter().any(|f| !f.is_empty()) {
            let touched = |r: &Rect| found.iter().flatten().any(|s: &Streak| s.touches(*r));
            let again: Vec<Rect> = parts(size, (128, 32)).into_iter().filter(touched).collect();
            op.pass = Pass::Without(found.clone());
            merge_parts(&inputs, &again, &op, budget, &mut planes, &|_, _| ()).unwrap();
        }
        Stack { planes, op, found }
    }
}

pub struct Stack {
    pub planes: Vec<Plane>,
    pub op: Stacked,
    pub found: Vec<Vec<Streak>>,
}

impl Stack {
    pub fn rejected(&self) -> f64 {
        let n = self.op.groups[0].inputs.len();
        let gone: u64 = (0..n).map(|k| self.op.rejected.of(k)).sum();
        let all: u64 = (0..n).map(|k| self.op.rejected.values(k)).sum();
        gone.real() / all.real()
    }
}

/// What is left of one plane after another is taken off, away from the edges that not all frames cover.
pub fn less(a: &Plane, b: &Plane) -> Plane {
    Plane::from_fn(a.size(), |x, y| {
        a.at(x.whole(), y.whole()) - b.at(x.whole(), y.whole())
    })
}

pub fn inner(plane: &Plane) -> impl Iterator<Item = (usize, usize, f32)> + '_ {
    let (w, h) = (plane.size().width(), plane.size().height());
    let xy = (24..h - 24).flat_map(move |y| (24..w - 24).map(move |x| (x, y)));
    xy.map(move |(x, y)| (x, y, plane.data()[y * w + x]))
}

/// Standard deviation of means of blocks of 8 x 8 pixels, times 8.
pub fn deep_noise(plane: &Plane) -> f64 {
    let (w, h) = (plane.size().width(), plane.size().height());
    let mut means = Vec::new();
    for y in (24..h - 32).step_by(8) {
        for x in (24..w - 32).step_by(8) {
            let block = (0..64).map(|i| plane.data()[(y + i / 8) * w + x + i % 8]);
            means.push(block.sum::<f32>() / 64.0);
        }
    }
    let middle = median(&mut means.clone());
    8.0 * f64::from(jigsawa_core::robust::mad(&mut means, middle)) * 1.4826
}

/// Light of a star within a radius, less a ring around it.
pub fn aperture(plane: &Plane, (x, y): (f64, f64), radius: f64) -> f64 {
    let (mut sum, mut n, mut ring) = (0.0, 0.0, Vec::new());
    let reach = (radius + 8.0).whole();
    for dy in -reach..=reach {
        for dx in -reach..=reach {
            let v = plane.at(x.whole() + dx, y.whole() + dy);
            let away = ((x.whole() + dx).real() - x).hypot((y.whole() + dy).real() - y);
            if away <= radius {
                sum += f64::from(v);
                n += 1.0;
            } else if away > radius + 3.0 && away < radius + 8.0 {
                ring.push(v);
            }
        }
    }
    sum - n * f64::from(median(&mut ring))
}
