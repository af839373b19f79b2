//! One star's light in each plane: its height, how far it reaches, and where it hides what lies behind.

use super::MARGIN;
use super::ellipse::Ellipse;
use super::fit::{SKY_RING, Shines, Surroundings};
use super::halo::Halo;
use super::middle::{is_flat, middle_of_saturated, shines_around};
use super::profile::{Profile, Profiles};
use super::window::Window;
use crate::number::Convert;
use crate::space::{FramePx, Point, Rect};
use crate::stars::{Flag, Star};

/// A star is modelled as far out as it stands above this part of the noise.
const REACH_SIGMA: f32 = 0.15;

/// Where the model may be off by more than this part of the noise, the star hides the sky.
const HIDDEN_SIGMA: f32 = 0.7;

/// Elongations of fainter stars are noise: those above this many sigma have their own.
const SHAPED_SNR: f64 = 40.0;

/// Stars so many widths from another one matter to its light.
const NEAR: f64 = 6.0;

/// A star and its light.
#[derive(Debug, Clone)]
pub(super) struct StarLight {
    pub(super) at: Point<FramePx>,
    star: Star,
    ellipse: Ellipse,
    /// Height in each plane.
    heights: Vec<f32>,
    /// Its own light, where it is bright enough to show it.
    halo: Option<Box<Halo>>,
    /// Spans of rows that its rays hide: row, first column and the one behind the last; from top to bottom.
    rays: Vec<(i64, i64, i64)>,
    /// Is it wider than any star here, so that it may be none?
    pub(super) doubtful: bool,
    /// How far its light is taken off; 0 for a star that is none in this picture.
    pub(super) reach: f64,
    /// Radius of what is filled; 0 for a star that is only taken off.
    pub(super) hole: f64,
    pub(super) measured: bool,
    /// Was it found only when those before it were taken out? Then it is measured in what they leave.
    pub(super) late: bool,
}

impl StarLight {
    pub(super) fn new(star: &Star, planes: usize) -> Self {
        let mut star = *star;
        let saturated = star.flags.has(Flag::Saturated);
        // A column that charge has run along is not the star's shape.
        if saturated || star.flux < SHAPED_SNR * star.flux_sigma || star.flags.has(Flag::Blended) {
            star.elongation = 1.0;
        }
        Self {
            at: star.at,
            ellipse: Ellipse::of(&star),
            star,
            halo: None,
            rays: Vec::new(),
            doubtful: false,
            heights: vec![0.0; planes],
            reach: 0.0,
            hole: 0.0,
            measured: false,
            late: false,
        }
    }

    /// Measures heights and reach. `all` are all stars from top to bottom, this one among them: their light, as far as it is
    /// known, is taken off first.
    pub(super) fn measure(
        &mut self,
        window: &Window,
        profiles: &[Profiles],
        (noise, saturations): (&[f32], &[f32]),
        all: &[Self],
        fwhm_px: f64,
    ) {
        self.halo = None;
        self.rays.clear();
        let most = MARGIN.real();
        let saturated = self.star.flags.has(Flag::Saturated);
        // A saturated star is told by its wings, any other by its core.
        let (from, to) = if saturated {
            (0.9 * fwhm_px, 3.5 * fwhm_px)
        } else {
            (0.0, 1.4 * fwhm_px)
        };
        let around = Surroundings::new(&self.star, self.ellipse, to);
        let near = self.reaching(all, NEAR * fwhm_px, to);
        let (mut wide, mut pair) = (false, false);
        let (x, y) = (self.at.x.round().whole(), self.at.y.round().whole());
        let middle = |p: usize| window.at(p, x, y);
        for (p, height) in self.heights.iter_mut().enumerate() {
            let profile = profiles[p].at(self.at);
            let seen = around.seen(window, (p, profile), &near);
            let fit = |from: f64, to: f64| seen.fitted((from, to)).unwrap_or(0.0);
            *height = fit(from, to).max(0.0);
            if saturated || *height < TOLD_SNR * noise[p] {
                continue;
            }
            // A core that is lower than its wings tell is full, as in one channel only, or it is no star's.
            let wings = fit(0.9 * fwhm_px, to);
            if wings < WIDER * *height {
                continue;
            }
            let flat = is_flat(window, p, self.at, fwhm_px, saturations[p]);
            let long = usize::from(self.star.elongation > LONG);
            let wider = self.star.fwhm_px > WIDE_FWHM[long] * fwhm_px;
            if !flat && wider && wings > MUCH_WIDER * fit(0.0, 0.7 * fwhm_px) {
                // Two stars side by side end where one does; a core or a knot shines on.
                pair = !shines_around(window, p, self.at, fwhm_px);
                wide |= !pair;
            } else if flat || *height > PAIR_SNR * noise[p] && middle(p) < wings {
                // Full, or two stars that are seen as one: it is taken off by its wings, and its core is filled.
                *height = wings;
            }
        }
        self.measured = true;
        self.doubtful = wide && !self.star.flags.has(Flag::Blended);
        if self.doubtful {
            // What is not surely a star stays.
            self.give_up();
            return;
        }
        let over = |f: &dyn Fn(&Profile, f32, f32) -> f64| {
            let of_planes = self.heights.iter().zip(profiles).zip(noise);
            of_planes
                .map(|((h, p), s)| f(p.at(self.at), *h, *s))
                .fold(0.0, f64::max)
        };
        self.reach = over(&|p, height, sigma| p.reach(height, REACH_SIGMA * sigma, most));
        let hidden = over(&|p, height, sigma| p.unknown(height, HIDDEN_SIGMA * sigma, most));
        self.hole = if hidden > 0.0 {
            let least = if saturated { 1.6 } else { 0.5 } * fwhm_px;
            hidden.max(least).min(0.45 * most)
        } else {
            0.0
        };
        if pair {
            self.hole = self.hole.max(self.star.fwhm_px);
        }
    }

    /// Measures the light that it alone has, where it is bright enough to show it: the profile of all stars is not
    /// trusted then.
    pub(super) fn measure_halo(
        &mut self,
        seen: (&Window, &Window),
        profiles: &[Profiles],
        noise: &[f32],
        all: &[Self],
        fwhm_px: f64,
    ) {
        // Two stars that are seen as one have no rings around their middle.
        let one = self.star.elongation < LONG && self.star.fwhm_px < ONE_FWHM * fwhm_px;
        if !self.is_bright(noise) || self.reach <= 0.0 || !(one || self.is_saturated()) {
            return;
        }
        let most = MARGIN.real() - 2.0;
        let own = self.alone(seen, profiles, all, most.ceil().whole());
        let core = self.hole.min(1.2 * fwhm_px);
        let of = |far: f64| Halo::measure(self.at, &own, noise, (core, fwhm_px, far));
        let least = (LEAST_WIDTHS * fwhm_px).min(most);
        let reach = (BEYOND * self.reach).clamp(least, most);
        let mut both = self.heights.iter().zip(noise);
        let wide = if both.any(|(h, s)| *h > WIDE_SNR * s) {
            reach.max((HALO_WIDTHS * fwhm_px).min(most))
        } else {
            reach
        };
        let Some((wide, over)) = of(wide) else {
            return;
        };
        // Before a nebula its light is lost nearer to it, and so is the sky that it stands on.
        let lost = self
            .heights
            .iter()
            .zip(profiles)
            .zip(wide.skies())
            .map(|((h, p), sky)| p.at(self.at).reach(*h, LOST * sky, most))
            .fold(0.0, f64::max);
        let uneven = wide.skies().zip(noise).any(|(s, n)| s > UNEVEN * n);
        let far = (BEYOND * lost).clamp(least, reach);
        let lost = uneven && !wide.shines_beyond(far);
        if lost && !self.is_saturated() {
            // What shines behind it is not even: its own light is not told from that, and the profile of all is better.
            self.hole = self.hole.max(wide.core);
            for (p, height) in self.heights.iter_mut().enumerate() {
                let most = wide.most_height(p, profiles[p].at(self.at), self.hole);
                *height = height.min(most);
            }
        } else {
            let halo = if lost {
                of(far).map_or(wide, |(near, _)| near)
            } else {
                wide
            };
            self.hole = halo.hole;
            self.reach = halo.reach.max(halo.hole);
            self.halo = Some(Box::new(halo));
        }
        self.rays = over.rays(self.at, self.hole);
    }

    /// Its surroundings without the light of others: what is left of the picture `behind` all stars, and its own light.
    fn alone(
        &self,
        (window, behind): (&Window, &Window),
        profiles: &[Profiles],
        all: &[Self],
        reach: i64,
    ) -> Window {
        let mut own = behind.part(Rect {
            x: self.at.x.round().whole() - reach,
            y: self.at.y.round().whole() - reach,
            width: (2 * reach + 1).index(),
            height: (2 * reach + 1).index(),
        });
        let reaching = |s: &&Self| {
            let near = self.hole + 1.0 + s.extent();
            (s.at.y - self.at.y).abs() < near && s.at != self.at && s.at.distance(self.at) < near
        };
        let others: Vec<&Self> = all.iter().filter(reaching).collect();
        let hole = self.hole.ceil().whole() + 1;
        let (first, last) = (
            self.at.x.round().whole() - hole,
            self.at.x.round().whole() + hole,
        );
        let mut light = Vec::new();
        let mut inside = Vec::new();
        for (p, profiles) in profiles.iter().enumerate() {
            own.each_row(p, |y, left, row| {
                light.clear();
                light.resize(row.len(), 0.0f32);
                self.take_from_row(p, profiles.at(self.at), (left, y), &mut light);
                for (v, l) in row.iter_mut().zip(&light) {
                    *v -= l;
                }
                // In its hole what is behind is not known: there the picture serves, without the others.
                if (y.real() - self.at.y).abs() > self.hole {
                    return;
                }
                inside.clear();
                inside.extend((first..=last).map(|x| window.at(p, x, y)));
                for s in &others {
                    s.take_from_row(p, profiles.at(s.at), (first, y), &mut inside);
                }
                for (x, v) in (first..).zip(&inside) {
                    let k = x - left;
                    if k >= 0 && k < row.len().whole() && light[k.index()].is_nan() {
                        row[k.index()] = *v;
                    }
                }
            });
        }
        own
    }

    /// How far its light, its hole and its rays go.
    pub(super) fn extent(&self) -> f64 {
        self.far().max(self.tall())
    }

    /// How far its light and its hole go along its longer axis.
    fn far(&self) -> f64 {
        self.reach.max(self.hole) * self.star.elongation.max(1.0).sqrt()
    }

    /// Does its height in one plane stand over the noise?
    pub(super) fn shows(&self, noise: f32, fwhm_px: f64) -> bool {
        // A height rests on the squares of the profile over its pixels: about the area at half its height.
        let pixels = (FIT_AREA * fwhm_px * fwhm_px).single();
        self.heights[0] * pixels.sqrt() > SHOWN_SIGMA * noise
    }

    /// What it was found as.
    pub(super) const fn star(&self) -> Star {
        self.star
    }

    /// Does it show a profile of its own?
    pub(super) fn is_bright(&self, noise: &[f32]) -> bool {
        let mut both = self.heights.iter().zip(noise);
        both.any(|(h, s)| *h > HALO_SNR * s)
    }

    /// Is its core full?
    pub(super) fn is_saturated(&self) -> bool {
        self.star.flags.has(Flag::Saturated)
    }

    pub(super) fn heights(&self) -> &[f32] {
        &self.heights
    }

    /// It is a part of something else.
    pub(super) fn give_up(&mut self) {
        self.heights.fill(0.0);
        (self.reach, self.hole) = (0.0, 0.0);
    }

    /// Finds the middle of a full star.
    pub(super) fn centre(&mut self, window: &Window, saturations: &[f32]) {
        if self.is_saturated()
            && let Some(at) = middle_of_saturated(window, saturations, self.at)
        {
            self.at = at;
            self.star.at = at;
        }
    }

    /// How far its rays go up or down from its middle.
    pub(super) fn tall(&self) -> f64 {
        let of = |r: &(i64, i64, i64)| (r.0.real() - self.at.y).abs() + 1.0;
        let ends = [self.rays.first(), self.rays.last()];
        ends.into_iter().flatten().map(of).fold(0.0, f64::max)
    }

    /// Is it measured the same with the light of all others known?
    pub(super) fn is_alone(&self, all: &[Self], fwhm_px: f64) -> bool {
        self.neighbours(all, NEAR * fwhm_px).is_empty()
    }

    /// Other stars whose light may reach within `far` of this one's middle.
    fn neighbours<'a>(&self, all: &'a [Self], far: f64) -> Vec<&'a Self> {
        let first = all.partition_point(|s| s.at.y < self.at.y - far);
        all[first..]
            .iter()
            .take_while(|s| s.at.y <= self.at.y + far)
            .filter(|s| s.at != self.at && s.at.distance(self.at) < far)
            .collect()
    }

    /// Those of them whose light, or what is not known of it, lies before the pixels that tell a height out to a radius.
    fn reaching<'a>(&self, all: &'a [Self], far: f64, to: f64) -> Vec<&'a Self> {
        let longest = self.star.elongation.max(1.0).sqrt();
        let mut near = self.neighbours(all, far);
        near.retain(|s| {
            if s.measured {
                s.at.distance(self.at) < s.far() + SKY_RING * to * longest
            } else {
                self.late || !s.late
            }
        });
        near
    }

    /// Takes the star's light off the part of a row that it reaches; what it hides becomes missing.
    pub(super) fn take_from_row(
        &self,
        plane: usize,
        profile: &Profile,
        (left, y): (i64, i64),
        row: &mut [f32],
    ) {
        let dy = y.real() - self.at.y;
        let at_x = self.at.x - left.real();
        let height = self.heights[plane];
        let far = self.far();
        let first = self.rays.partition_point(|r| r.0 < y);
        for (_, from, to) in self.rays[first..].iter().take_while(|r| r.0 == y) {
            let end = row.len().whole();
            let (from, to) = ((from - left).clamp(0, end), (to - left).clamp(0, end));
            row[from.index()..to.index()].fill(f32::NAN);
        }
        if dy.abs() > far || height <= 0.0 && self.hole <= 0.0 {
            return;
        }
        let half = (far * far - dy * dy).sqrt();
        let from = (at_x - half).ceil().clamp(0.0, row.len().real()).index();
        let to = ((at_x + half).floor().whole() + 1)
            .clamp(0, row.len().whole())
            .index();
        let hidden = self.hole * self.hole;
        // The last fifth of the reach fades, so that no rim is left.
        let fading = 1.0 / (0.2 * self.reach).max(f64::MIN_POSITIVE);
        for (x, v) in (from..).zip(&mut row[from..to.max(from)]) {
            let dx = x.real() - at_x;
            let square = dx * dx + dy * dy;
            if square <= hidden {
                *v = f32::NAN;
                continue;
            }
            if let Some(halo) = &self.halo {
                *v -= halo.light(plane, square.sqrt());
                continue;
            }
            let r = self.ellipse.distance(dx, dy);
            if r < self.reach {
                let fade = ((self.reach - r) * fading).min(1.0).single();
                *v -= fade * height * profile.at(r);
            }
        }
    }
}

impl Shines for StarLight {
    fn at(&self) -> Point<FramePx> {
        self.at
    }

    fn is_measured(&self) -> bool {
        self.measured
    }

    fn light_at(&self, plane: usize, profile: &Profile, dx: f64, dy: f64) -> f32 {
        let height = self.heights[plane];
        if let Some(halo) = &self.halo {
            halo.light(plane, (dx * dx + dy * dy).sqrt())
        } else if height > 0.0 {
            let r = self.ellipse.distance(dx, dy);
            if r < self.reach || !self.measured {
                height * profile.at(r)
            } else {
                0.0
            }
        } else {
            0.0
        }
    }
}

/// Stars this high over the noise show what they are besides the profile of all.
const TOLD_SNR: f32 = 25.0;

/// Wings that tell so much more than the core mean a core that is full, or something wider than a star.
const WIDER: f32 = 1.3;
const MUCH_WIDER: f32 = 2.2;

/// Below this height, in noise, wings tell too little to go by them.
const PAIR_SNR: f32 = 200.0;

/// And this much wider than the stars it must be; the second is for what is longer than this.
const WIDE_FWHM: [f64; 2] = [1.5, 2.2];
const LONG: f64 = 1.3;

/// One star alone is no wider than this, in that of all.
const ONE_FWHM: f64 = 1.15;

/// The sum of a profile's squares, in squared widths: a height rests on so many pixels.
const FIT_AREA: f64 = 0.6;

/// A star of another picture that stands less over the noise than this is not in this one: its light is not to be told from
/// the noise.
const SHOWN_SIGMA: f32 = 3.0;

/// Stars this high over the noise have a profile of their own.
const HALO_SNR: f32 = 400.0;

/// It is looked for so much further out than its profile reaches, at least so far, and for a halo as far as this, in widths.
const BEYOND: f64 = 1.6;
const LEAST_WIDTHS: f64 = 14.0;
const HALO_WIDTHS: f64 = 30.0;

/// Halos and rays of fainter stars than this, in noise, are lost in it.
const WIDE_SNR: f32 = 2500.0;

/// A sky that scatters by more than this, in noise, has nebula in it; light below this part of its scatter is lost.
const UNEVEN: f32 = 1.5;
const LOST: f32 = 0.3;

/// A star's light in each plane and its error, from the pixels within 1.4 widths of its middle; `None` where too few
/// can be used.
pub(super) fn light(
    star: &Star,
    window: &Window,
    profiles: &[Profiles],
    noise: &[f32],
    all: &[StarLight],
    fwhm_px: f64,
) -> Option<Vec<(f64, f64)>> {
    let own = StarLight::new(star, 0);
    let to = 1.4 * fwhm_px;
    let near = own.reaching(all, 4.0 * fwhm_px, to);
    let around = Surroundings::new(star, Ellipse::of(star), to);
    profiles
        .iter()
        .zip(noise)
        .enumerate()
        .map(|(p, (profile, sigma))| {
            let profile = profile.at(star.at);
            let seen = around.seen(window, (p, profile), &near);
            let height = seen.fitted((0.0, to))?;
            let light = profile.light();
            let pixels = FIT_AREA * fwhm_px * fwhm_px;
            Some((
                f64::from(height) * light,
                f64::from(*sigma) * light / pixels.sqrt(),
            ))
        })
        .collect()
}
