//! Pairs of frames of one filter under two skies, for balancing, with the truth about both.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::space::{FramePx, Point, Size};

use crate::camera::Camera;
use crate::clouds::Clouds;
use crate::glow::SkyGlow;
use crate::optics::Optics;
use crate::pointing::Pointing;
use crate::shot::{Shot, Taken};
use crate::spoilt::Spoilt;
use crate::stars::Crowd;

/// How the second frame of a pair differs from the first.
#[derive(Debug, Clone)]
pub struct Other {
    /// Of both.
    pub filter: Filter,
    /// Stars on each, about.
    pub stars: usize,
    /// Part of the light that passes the air in the second.
    pub transparency: f64,
    /// Seeing of the second; the first has 3 pixels.
    pub fwhm_px: f64,
    /// The second's sky.
    pub glow: SkyGlow,
    /// Pixels that the second is moved by.
    pub shift: (f64, f64),
    /// And turned by.
    pub turn_deg: f64,
    /// With the nebula.
    pub nebula: bool,
    /// Pixels.
    pub size: (usize, usize),
    /// Another number, another sky.
    pub seed: u64,
}

impl Other {
    /// A hazier frame under a moon, a little turned.
    pub const fn usual(seed: u64) -> Self {
        Self {
            filter: Filter::Ha,
            stars: 400,
            transparency: 0.72,
            fwhm_px: 3.5,
            glow: SkyGlow {
                across: -60.0,
                along: 40.0,
                bowl: 15.0,
                twist: 50.0,
                moon: 120.0,
                ..SkyGlow::even(420.0)
            },
            shift: (11.3, -7.6),
            turn_deg: 0.4,
            nebula: true,
            size: (1200, 800),
            seed,
        }
    }

    /// Both frames.
    pub fn take(&self) -> [(Shot, Taken); 2] {
        self.take_as(|_, _| {})
    }

    /// Both frames, taken otherwise: `change` gets each shot with its number, 0 or 1.
    pub fn take_as(&self, change: impl Fn(&mut Shot, usize)) -> [(Shot, Taken); 2] {
        let middle = (960.0, 640.0);
        let first = Shot {
            filter: self.filter.clone(),
            size: Size::new(self.size.0, self.size.1)
                .unwrap_or_else(|| unreachable!("both sides are positive")),
            pointing: Pointing::at(middle.0, middle.1),
            optics: Optics::round(3.0),
            camera: Camera::usual(),
            glow: SkyGlow {
                across: 20.0,
                along: -12.0,
                ..SkyGlow::even(300.0)
            },
            transparency: 1.0,
            spoilt: Spoilt::default(),
            subs: 30,
            seed: 3 * self.seed + 1,
        };
        let second = Shot {
            pointing: Pointing {
                turn_deg: self.turn_deg,
                ..Pointing::at(middle.0 + self.shift.0, middle.1 + self.shift.1)
            },
            optics: Optics::round(self.fwhm_px),
            glow: self.glow,
            transparency: self.transparency,
            seed: 3 * self.seed + 2,
            ..first.clone()
        };
        let (mut first, mut second) = (first, second);
        change(&mut first, 0);
        change(&mut second, 1);
        // The faintest stars are twice as many as those that are found.
        let cells = first.size.area().real() / 1e4;
        let crowd = Crowd {
            beacons: &[],
            per_cell: self.stars.real() / cells,
            magnitudes: (9.5, 14.0),
            seed: 3 * self.seed + 3,
        };
        let extents = [first.extent(), second.extent()];
        let [a, b] = extents;
        let around = (a.0.min(b.0), a.1.min(b.1), a.2.max(b.2), a.3.max(b.3));
        let clouds = self.nebula.then(|| Clouds::over(around));
        [first, second].map(|shot| {
            let taken = shot.take(&crowd, clouds.as_ref());
            (shot, taken)
        })
    }
}

/// The sky's own light at a place of a frame, in its units: no stars, no nebula.
pub fn true_sky(shot: &Shot, at: Point<FramePx>) -> f64 {
    let u = (at.x + 0.5) / shot.size.width().real() - 0.5;
    let v = (at.y + 0.5) / shot.size.height().real() - 0.5;
    shot.camera.units(shot.glow.at(u, v))
}
