//! The demo's masters, taken once for all tests, and what the core finds in them.

use jigsawa_core::number::Convert;
use std::sync::OnceLock;

use jigsawa_core::balance::{Balance, Lattice, Member, Samples, Sky, colours, match_sky};
use jigsawa_core::doors::FrameSource;
use jigsawa_core::filter::{Band, Filter};
use jigsawa_core::matching::{MatchSettings, Matched, match_frames, spots};
use jigsawa_core::merge::{Budget, Input, SideBySide, merge};
use jigsawa_core::placement::{Map, Placement};
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{CanvasPx, FramePx, Point, Size};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::demo::{DemoFrame, frames, take};
use jigsawa_sky::pointing::SkyPx;
use jigsawa_sky::shot::Taken;

/// Prints a figure as a row of docs/accuracy.md: the example `figures` of jigsawa-sky collects them, by their numbers.
pub fn figure(number: u32, what: &str, is: &str) {
    println!("figure | {number:03} | {what} | {is}");
}

/// One master with its truth and its stars.
pub struct Master {
    pub frame: DemoFrame,
    pub taken: Taken,
    pub stars: Catalogue,
}

impl Master {
    pub fn filter(&self) -> &Filter {
        &self.frame.shot.filter
    }

    pub fn size(&self) -> Size {
        self.frame.shot.size
    }

    /// Where the sky's plane lies on the frame.
    pub fn sky_to_frame(&self) -> Map<SkyPx, FramePx> {
        self.frame.shot.map()
    }

    /// Noise of a pixel of empty sky, by the camera's own numbers.
    pub fn true_noise(&self) -> f64 {
        let shot = &self.frame.shot;
        shot.camera.noise(shot.glow.level, shot.subs)
    }
}

/// The six masters: R, G, B, Ha, OIII, SII.
pub fn masters() -> &'static [Master] {
    static MASTERS: OnceLock<Vec<Master>> = OnceLock::new();
    MASTERS.get_or_init(|| {
        let mut all = Vec::new();
        take(&frames(), &mut |frame, taken| {
            let full = Some(frame.shot.camera.full_adu.single());
            let stars = detect(&taken.plane, full, &Settings::default()).unwrap();
            all.push(Master {
                frame: frame.clone(),
                taken,
                stars,
            });
        });
        all
    })
}

pub fn master(filter: &Filter) -> &'static Master {
    masters().iter().find(|m| m.filter() == filter).unwrap()
}

/// A set of masters on the grid of the first of them.
pub struct Group {
    pub members: Vec<&'static Master>,
    /// `None` for the reference.
    pub matched: Vec<Option<Matched>>,
    pub placements: Vec<Placement>,
    pub balances: Vec<Balance>,
}

impl Group {
    pub fn new(filters: &[Filter]) -> Self {
        let members: Vec<&Master> = filters.iter().map(master).collect();
        let reference = members[0];
        let matched: Vec<Option<Matched>> = members
            .iter()
            .enumerate()
            .map(|(i, m)| {
                let found = || {
                    match_frames(
                        &spots(&reference.stars),
                        &spots(&m.stars),
                        (reference.size(), m.size()),
                        &MatchSettings::default(),
                    )
                };
                (i > 0).then(|| found().unwrap())
            })
            .collect();
        let placements: Vec<Placement> = matched
            .iter()
            .map(|m| m.as_ref().map_or(Map::shift(0.0, 0.0), |m| m.map.retyped()))
            .collect();
        let list: Vec<Member<'_>> = members
            .iter()
            .zip(&placements)
            .map(|(m, placement)| Member {
                catalogue: &m.stars,
                placement,
                size: m.size(),
                filter: m.filter(),
                exposure_s: Some(m.frame.exposure_s),
                gain_e_adu: Some(m.frame.shot.camera.gain_e_adu),
            })
            .collect();
        let lattice = Lattice::over(reference.size());
        let skies: Vec<Sky<'_>> = list
            .iter()
            .zip(&members)
            .map(|(member, m)| Sky {
                member: *member,
                samples: Samples::take(
                    &m.taken.plane,
                    member.placement,
                    &m.stars,
                    Some(m.frame.shot.camera.full_adu.single()),
                    lattice,
                ),
            })
            .collect();
        let balances = colours(&list, 0)
            .into_iter()
            .enumerate()
            .map(|(i, scale)| {
                if i == 0 {
                    return Balance::identity(&members[0].stars);
                }
                match_sky(&skies[0], &skies[i], scale.unwrap(), None)
                    .unwrap()
                    .balance
            })
            .collect();
        Self {
            members,
            matched,
            placements,
            balances,
        }
    }

    pub fn reference(&self) -> &'static Master {
        self.members[0]
    }

    /// Where the sky's plane lies on the canvas, by the truth.
    pub fn sky_to_canvas(&self) -> Map<SkyPx, CanvasPx> {
        self.reference().sky_to_frame().retyped()
    }

    /// The member on the canvas, placed; and balanced, if asked.
    pub fn on_canvas(&self, i: usize, balanced: bool) -> Plane {
        let m = self.members[i];
        let identity = Balance::identity(&m.stars);
        place(
            &m.taken.plane,
            self.placements[i].clone(),
            if balanced {
                self.balances[i].clone()
            } else {
                identity
            },
            m.frame.shot.camera.full_adu.single(),
            self.reference().size(),
        )
    }
}

pub fn narrow() -> &'static Group {
    static GROUP: OnceLock<Group> = OnceLock::new();
    GROUP.get_or_init(|| Group::new(&[Filter::Ha, Filter::Oiii, Filter::Sii]))
}

pub fn broad() -> &'static Group {
    static GROUP: OnceLock<Group> = OnceLock::new();
    GROUP.get_or_init(|| Group::new(&[Filter::R, Filter::G, Filter::B, Filter::Ha]))
}

pub fn groups() -> [&'static Group; 2] {
    assert_eq!(narrow().reference().filter().band(), Band::Narrow);
    [narrow(), broad()]
}

/// One frame on a canvas.
pub fn place(
    source: &dyn FrameSource,
    placement: Placement,
    balance: Balance,
    saturation: f32,
    canvas: Size,
) -> Plane {
    let input = Input {
        saturation,
        ..Input::new(source, placement, balance)
    };
    let mut out = vec![Plane::filled(canvas, 0.0)];
    let budget = Budget { bytes: 1 << 26 };
    merge(
        &[input],
        canvas,
        &SideBySide { inputs: 1 },
        budget,
        &mut out,
        &|_, _| (),
    )
    .unwrap();
    out.remove(0)
}

/// Stars of the truth that can be measured well in every member: not saturated, bright, alone.
/// Places on the canvas.
pub fn good_stars(group: &Group, i: usize, least_amplitude_sigma: f64) -> Vec<Point<CanvasPx>> {
    let to_canvas = group.sky_to_canvas();
    let m = group.members[i];
    let peak_part = m.frame.shot.optics.pixel(0.0, 0.0);
    let truth = &m.taken.truth.stars;
    let canvas = group.reference().size();
    let near = |a: (f64, f64), b: (f64, f64)| (a.0 - b.0).hypot(a.1 - b.1);
    truth
        .iter()
        .filter(|s| !s.saturated && s.flux * peak_part > least_amplitude_sigma * m.true_noise())
        .filter(|s| {
            // Truth is sorted from bright to faint: companions of 2 % or more are looked for.
            !truth
                .iter()
                .take_while(|o| o.flux > 0.02 * s.flux)
                .any(|o| o.sky != s.sky && near(o.sky, s.sky) < 14.0)
        })
        .map(|s| to_canvas.apply(Point::new(s.sky.0, s.sky.1)))
        .filter(|p| {
            let inside = |v: f64, n: usize| v > 20.0 && v < n.real() - 21.0;
            inside(p.x, canvas.width()) && inside(p.y, canvas.height())
        })
        .collect()
}
