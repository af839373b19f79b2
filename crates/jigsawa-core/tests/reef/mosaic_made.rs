//! Twelve small panels of the made-up sky, joined from frames to one plane, and the same sky without noise.

use jigsawa_core::number::Convert;
use std::collections::BTreeMap;
use std::sync::OnceLock;

use jigsawa_core::balance::{Lattice, Member, Samples, Sky};
use jigsawa_core::filter::Filter;
use jigsawa_core::matching::{FrameSpots, Spot, spots, ties};
use jigsawa_core::merge::{Budget, Input, LeftOut, merge};
use jigsawa_core::mosaic::blend::{Join, JoinPanels, Share};
use jigsawa_core::mosaic::border::Coverage;
use jigsawa_core::mosaic::cells::{Cells, Cover};
use jigsawa_core::mosaic::levels::{Levelled, ToLevel, level};
use jigsawa_core::mosaic::place::registration;
use jigsawa_core::mosaic::seams::{Costs, Labels, lay, shining};
use jigsawa_core::mosaic::solve::{Problem, rough, solve};
use jigsawa_core::mosaic::tracks::{Sight, Track, meeting, of_ties};
use jigsawa_core::placement::{Map, Placement};
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{CanvasPx, FramePx, Point, Size};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_core::wcs::Projection;
use jigsawa_sky::camera::Camera;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::Shot;
use jigsawa_sky::spoilt::Spoilt;
use jigsawa_sky::stars::Crowd;

/// Pixels of a panel.
pub const PANEL: (usize, usize) = (520, 380);
/// Columns and rows.
pub const GRID: (usize, usize) = (3, 4);
/// The panel on whose pixels all lie.
pub const REFERENCE: usize = 4;

/// As many stars on these small panels as on those of a real camera, in the parts that they share.
const CROWD: Crowd = Crowd {
    per_cell: 90.0,
    ..Crowd::lantern_reef()
};

/// How twelve panels are taken.
#[derive(Debug, Clone)]
pub struct Scene {
    pub filter: Filter,
    /// The part of a panel that its neighbour shows, too.
    pub overlap: f64,
    pub crowd: Crowd,
    /// What passes the air, of each panel.
    pub transparencies: Vec<f64>,
    /// Of each panel, against the usual one.
    pub exposures: Vec<f64>,
    pub glows: Vec<SkyGlow>,
    pub optics: Vec<Optics>,
    pub spoilt: Vec<Spoilt>,
    pub seed: u64,
}

/// A number from -1 to 1 for each panel.
fn wave(k: usize, f: f64) -> f64 {
    (f * (k.real() + 1.0)).sin()
}

impl Scene {
    /// A clear night, but for a moon over one panel and cloud before another.
    pub fn usual() -> Self {
        let glow = |k: usize| {
            let (level, tilt) = match k {
                7 => (260.0, 3.0),
                _ => (110.0 + 10.0 * wave(k, 1.7), 0.3),
            };
            SkyGlow {
                across: 9.0 * tilt * wave(k, 6.1),
                along: 9.0 * tilt * wave(k, 7.7),
                ..SkyGlow::even(level)
            }
        };
        let air = |k: usize| {
            if k == 2 {
                0.7
            } else {
                0.95 + 0.05 * wave(k, 8.3)
            }
        };
        let all = GRID.0 * GRID.1;
        Self {
            filter: Filter::R,
            overlap: 0.14,
            crowd: CROWD,
            transparencies: (0..all).map(air).collect(),
            exposures: vec![1.0; all],
            glows: (0..all).map(glow).collect(),
            optics: vec![
                Optics {
                    distortion_px: 0.8,
                    ..Optics::round(2.8)
                };
                all
            ],
            spoilt: vec![Spoilt::default(); all],
            seed: 500,
        }
    }

    pub fn shot(&self, k: usize) -> Shot {
        let (c, r) = ((k % GRID.0).real() - 1.0, (k / GRID.0).real() - 1.5);
        let step = |n: usize| (1.0 - self.overlap) * n.real();
        Shot {
            filter: self.filter.clone(),
            size: Size::new(PANEL.0, PANEL.1).unwrap(),
            pointing: Pointing {
                turn_deg: 0.7 * wave(k, 2.3),
                ..Pointing::at(
                    1010.0 + c * step(PANEL.0) + 3.0 * wave(k, 3.1),
                    640.0 + r * step(PANEL.1) + 3.0 * wave(k, 4.3),
                )
            },
            optics: self.optics[k],
            camera: Camera::usual(),
            glow: self.glows[k],
            transparency: self.transparencies[k] * self.exposures[k],
            spoilt: self.spoilt[k],
            subs: 40,
            seed: self.seed + k as u64,
        }
    }

    /// Takes all panels and finds their stars.
    pub fn take(&self) -> Vec<Frame> {
        let clouds = clouds();
        (0..GRID.0 * GRID.1)
            .map(|k| {
                let shot = self.shot(k);
                let plane = shot.take(&self.crowd, Some(&clouds)).plane;
                let stars = detect(&plane, Some(62_000.0), &Settings::default()).unwrap();
                (shot, plane, stars)
            })
            .collect()
    }
}

/// A panel with its pixels and its stars.
pub type Frame = (Shot, Plane, Catalogue);

/// A joined mosaic with all that it was made of, and its truth on the same pixels.
pub struct Mosaic {
    pub joined: Plane,
    pub truth: Plane,
    pub labels: Labels,
    pub cells: Cells,
    pub levelled: Levelled,
    pub transparencies: Vec<f64>,
    /// Noise of a pixel of the anchor.
    pub noise: f64,
    /// Where the sky's stars are.
    pub sky: Vec<Point<CanvasPx>>,
}

fn taken() -> &'static Vec<Frame> {
    static TAKEN: OnceLock<Vec<Frame>> = OnceLock::new();
    TAKEN.get_or_init(|| Scene::usual().take())
}

pub fn clouds() -> Clouds {
    Clouds::over((100.0, -250.0, 1920.0, 1530.0))
}

/// A canvas with room for all: the reference's pixels and some hundreds around. Its first pixel on the reference's.
const CANVAS: (usize, usize) = (1490, 1480);
const FIRST: (f64, f64) = (-480.0, -400.0);

/// Stars of two frames that are the same, as places in their catalogues.
pub type Same = BTreeMap<(usize, usize), Vec<(usize, usize)>>;

/// All panels placed by their stars, and which stars they share.
pub fn places() -> (Vec<Placement>, Same) {
    let frames = taken();
    let lists: Vec<Vec<Spot<FramePx>>> = frames.iter().map(|f| spots(&f.2)).collect();
    let shown = shown(&lists);
    let problem = Problem {
        frames: &shown,
        cameras: &[0; 12],
        reference: REFERENCE,
        curvature: None,
        kept: None,
    };
    let found = ties(&shown);
    let mut tracks = of_ties(&shown, &found);
    let mut s = solve(&problem, &tracks, &rough(&problem, &found));
    for reach in [2.0, 1.0] {
        tracks = meeting(&shown, &s.spots_on_plane(&problem), reach);
        s = solve(&problem, &tracks, &s);
    }
    let placements: Vec<Placement> = (0..12)
        .map(|i| {
            let map = registration(&problem, &s, Projection::Tangent, i)
                .unwrap()
                .0;
            Map::shift(FIRST.0, FIRST.1).then(&map).unwrap()
        })
        .collect();
    (placements, pairs_of(&tracks, &lists))
}

/// Lists of stars as frames of the panels' size.
pub fn shown(lists: &[Vec<Spot<FramePx>>]) -> Vec<FrameSpots<'_>> {
    let size = Size::new(PANEL.0, PANEL.1).unwrap();
    lists
        .iter()
        .map(|spots| FrameSpots { spots, size })
        .collect()
}

/// Stars of two frames that are the same, by their tracks.
pub fn pairs_of(tracks: &[Track], lists: &[Vec<Spot<FramePx>>]) -> Same {
    let index = |sight: &Sight| lists[sight.frame][sight.spot].index;
    let mut same = Same::new();
    for t in tracks {
        for (n, a) in t.iter().enumerate() {
            for b in &t[n + 1..] {
                same.entry((a.frame, b.frame))
                    .or_default()
                    .push((index(a), index(b)));
            }
        }
    }
    same
}

/// The sky without noise on the canvas, as a camera sees it that points where the canvas's middle is; and where the stars are.
fn the_sky(canvas: Size) -> (Plane, Vec<Point<CanvasPx>>) {
    let frames = taken();
    let sky_to_reference = frames[REFERENCE].0.pointing.map(frames[REFERENCE].0.size);
    let middle: Point<CanvasPx> = canvas.centre();
    let at = sky_to_reference
        .invert()
        .apply(Point::new(middle.x + FIRST.0, middle.y + FIRST.1));
    let ideal = Shot {
        size: canvas,
        pointing: Pointing {
            centre: (at.x, at.y),
            ..frames[REFERENCE].0.pointing
        },
        optics: Optics::round(2.8),
        glow: SkyGlow::even(0.0),
        transparency: 1.0,
        ..frames[REFERENCE].0.clone()
    };
    let sky = CROWD
        .over((100.0, -250.0, 1920.0, 1530.0))
        .iter()
        .map(|s| sky_to_reference.apply(Point::new(s.x, s.y)))
        .map(|p| Point::new(p.x - FIRST.0, p.y - FIRST.1))
        .collect();
    (ideal.truth(&CROWD, Some(&clouds())), sky)
}

/// The panels with all that levelling needs to know of them.
pub fn to_level<'a>(
    frames: &'a [Frame],
    placements: &'a [Placement],
    lattice: Lattice,
) -> Vec<ToLevel<'a>> {
    let one = |((shot, plane, catalogue), placement): (&'a Frame, &'a Placement)| ToLevel {
        sky: Sky {
            member: Member {
                catalogue,
                placement,
                size: shot.size,
                filter: &shot.filter,
                exposure_s: Some(300.0),
                gain_e_adu: Some(0.8),
            },
            samples: Samples::take(plane, placement, catalogue, Some(62_000.0), lattice),
        },
        kept: None,
        weather: 0.0,
    };
    frames.iter().zip(placements).map(one).collect()
}

/// Joins all panels as the program does.
#[allow(clippy::too_many_lines)] // One story, from panels to truth.
pub fn mosaic(share: Share) -> Mosaic {
    let frames = taken();
    let canvas = Size::new(CANVAS.0, CANVAS.1).unwrap();
    let (placements, same) = places();
    let cells = Cells::over(canvas, (PANEL.0 * PANEL.1).real());
    let lattice = Lattice::fine(canvas, 1, 12);
    let to_level = to_level(frames, &placements, lattice);
    let levelled = level(&to_level, &|a, b| {
        same.get(&(a, b)).cloned().unwrap_or_default()
    });
    let usable: Vec<_> = frames.iter().map(|f| Coverage::of(&f.1)).collect();
    let covers: Vec<Cover> = frames
        .iter()
        .zip(&placements)
        .zip(&usable)
        .map(|((f, p), usable)| Cover::of(&f.1, p, usable, cells))
        .collect();
    let shown: Vec<(&Catalogue, &Placement)> =
        frames.iter().map(|f| &f.2).zip(&placements).collect();
    let stars = shining(&shown, &covers, cells);
    let anchor = levelled.anchor;
    let noise = f64::from(frames[anchor].2.sky.typical_sigma());
    let mut costs = Costs::of_stars(cells, &stars);
    costs.add(&levelled.overlaps, noise, lattice.patch_px());
    let labels = lay(&covers, &costs, REFERENCE, None);
    let panel_of: Vec<usize> = (0..12).collect();
    let join = Join::new(
        (cells, share),
        &labels,
        covers.into_iter().map(Some).collect(),
        &stars,
        (&levelled.overlaps, &panel_of, lattice.patch_px()),
    );
    let inputs: Vec<Input<'_>> = (0..12)
        .map(|i| Input {
            mask: Some(&usable[i]),
            saturation: 62_000.0,
            ..Input::new(
                &frames[i].1,
                placements[i].clone(),
                levelled.balances[i].clone(),
            )
        })
        .collect();
    let counts: Vec<(usize, f32)> = (0..12)
        .map(|i| (i, levelled.balances[i].weight.single()))
        .collect();
    let op = JoinPanels {
        join: &join,
        frames: &counts,
        panels: 12,
        noise: &[8.0; 12],
        sky: 300.0,
        maps: false,
        left_out: &LeftOut::default(),
    };
    let mut out = vec![Plane::filled(canvas, f32::NAN)];
    merge(
        &inputs,
        canvas,
        &op,
        Budget { bytes: 1 << 26 },
        &mut out,
        &|_, _| (),
    )
    .unwrap();
    let (truth, sky) = the_sky(canvas);
    Mosaic {
        sky,
        joined: out.remove(0),
        truth,
        labels,
        cells,
        transparencies: frames.iter().map(|f| f.0.transparency).collect(),
        levelled,
        noise,
    }
}

pub fn by_seams() -> &'static Mosaic {
    static MOSAIC: OnceLock<Mosaic> = OnceLock::new();
    MOSAIC.get_or_init(|| mosaic(Share::Seam))
}
