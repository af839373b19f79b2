//! What a stack is made of, to be told.

use jigsawa_core::canvas::Canvas;
use jigsawa_core::number::Convert;
use jigsawa_core::resample::DropShape;
use jigsawa_core::stack::Streak;
use serde::Serialize;

use jigsawa_work::clock::{in_units, round};
use jigsawa_work::frames::Frame;
use jigsawa_work::stack::{Compared, Master, OfFrame, Set};

/// A master in the account.
#[derive(Debug, Clone, Serialize)]
pub struct MasterRow {
    /// Filter, and exposure where several masters of a filter are told apart by it.
    pub name: String,
    /// Its filter, RGB for a colour camera's.
    pub filter: String,
    pub frames: usize,
    /// All exposures together, in seconds.
    pub total_s: Option<f64>,
    /// How outliers were told, and the limits.
    pub rule: &'static str,
    pub reject_low: f32,
    pub reject_high: f32,
    /// The part of all values that was rejected.
    pub rejected_percent: f64,
    /// Values in a pixel of it on average.
    pub depth: f64,
    /// Pixels without any value.
    pub empty_percent: f64,
    /// Its noise, and by how much that is less than its best frame's.
    pub noise: f64,
    pub noise_gain: f64,
    /// The same for the best weights of frames as noisy as these, without rejection.
    pub noise_gain_best: f64,
    /// The frame whose units it has.
    pub units_of: String,
    /// How pixels were dropped onto the canvas, where they were not interpolated.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub drops: Option<DropsRow>,
    /// What some of its frames give.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub compared: Vec<ComparedRow>,
    /// What should be known of it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub doubts: Vec<String>,
    /// Its frames; of a colour camera green.
    pub lights: Vec<LightRow>,
}

/// What so many of the best frames give.
#[derive(Debug, Clone, Serialize)]
pub struct ComparedRow {
    pub frames: usize,
    /// Measured noise of a pixel, and that which faint light is seen against.
    pub noise: f64,
    pub deep_noise: f64,
    /// Width of its stars.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fwhm_px: Option<f64>,
}

impl ComparedRow {
    /// In the account's numbers.
    pub fn new(c: &Compared) -> Self {
        Self {
            frames: c.frames,
            noise: in_units(c.noise, 4),
            deep_noise: in_units(c.deep_noise, 4),
            fwhm_px: c.fwhm_px.map(|f| round(f, 3)),
        }
    }

    /// How many times as clear faint light and faint stars are as in another part; stars where the widths of both are known.
    pub fn clearer_than(&self, other: &Self) -> (f64, Option<f64>) {
        let light = other.deep_noise / self.deep_noise;
        let widths = other.fwhm_px.zip(self.fwhm_px);
        (light, widths.map(|(other, own)| light * other / own))
    }
}

/// Dropped pixels in the account.
#[derive(Debug, Clone, Serialize)]
pub struct DropsRow {
    /// Side of a drop in frame pixels, and its shape.
    pub side_px: f64,
    pub shape: &'static str,
    /// A colour camera's own pixels, none of them made up.
    pub own_pixels: bool,
    /// Pixels of the canvas that frames cover and nothing has fallen on.
    pub holes_percent: f64,
    /// The part of the places between pixels that the dithers have visited.
    pub phases_percent: f64,
    /// Noise on large scales over that of pixels.
    pub noise_tied: f64,
}

/// Has a filter masters of several exposures?
pub fn several_of_a_filter(masters: &[MasterRow]) -> bool {
    let mut filters: Vec<&str> = masters.iter().map(|m| m.filter.as_str()).collect();
    filters.sort_unstable();
    filters.windows(2).any(|w| w[0] == w[1])
}

/// A frame's part in a master.
#[derive(Debug, Clone, Serialize)]
pub struct LightRow {
    pub file: String,
    pub exposure_s: Option<f64>,
    pub weight_percent: f64,
    /// The noise of its sky in the master's units.
    pub noise: f64,
    pub rejected_percent: f64,
    /// Trails that were found in it and left out as a whole: their ends on the canvas and half of their width, in pixels
    /// from 0.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub trails: Vec<TrailRow>,
}

/// A trail in the account.
#[derive(Debug, Clone, Serialize)]
pub struct TrailRow {
    pub from: [f64; 2],
    pub to: [f64; 2],
    pub half_px: f64,
}

/// What is told of a master.
pub fn row(set: &Set, master: &Master, frames: &[Frame], canvas: &Canvas) -> MasterRow {
    let (pixels, scale) = (canvas.size.area(), canvas.scale);
    let plane = set.planes.len() / 2;
    let own = plane * set.frames()..(plane + 1) * set.frames();
    let of = &master.frames[own];
    let weights: f64 = of.iter().map(|f| f.weight).sum();
    let values: u64 = of.iter().map(|f| f.values).sum();
    let gone: u64 = of.iter().map(|f| f.rejected).sum();
    let quietest = of.iter().map(|f| f.noise).fold(f64::INFINITY, f64::min);
    let best: f64 = of.iter().map(|f| (quietest / f.noise).powi(2)).sum();
    // On a finer canvas neighbours share drops: their noise as it is over a pixel of the reference.
    let as_seen = master
        .dropped
        .map_or(master.noise, |d| master.noise * d.tied / scale);
    let percent = |part: f64| round(100.0 * part, 4);
    let total: Option<f64> = set.planes[plane]
        .iter()
        .map(|i| frames[*i].facts.total_s)
        .sum();
    let trail = |s: &Streak| TrailRow {
        from: [round(s.from.0, 1), round(s.from.1, 1)],
        to: [round(s.to.0, 1), round(s.to.1, 1)],
        half_px: round(s.half_px, 1),
    };
    let light = |f: &OfFrame| LightRow {
        file: frames[f.frame].name(),
        exposure_s: frames[f.frame].facts.exposure_s,
        weight_percent: percent(f.weight / weights.max(f64::MIN_POSITIVE)),
        noise: in_units(f.noise, 4),
        rejected_percent: percent(f.part_rejected()),
        trails: f.streaks.iter().map(trail).collect(),
    };
    MasterRow {
        name: set.name(),
        filter: set.filter_name().to_owned(),
        frames: set.frames(),
        total_s: total.map(|t| round(t, 3)),
        rule: master.rejection.rule.name(),
        reject_low: master.rejection.low,
        reject_high: master.rejection.high,
        rejected_percent: percent(gone.real() / values.max(1).real()),
        depth: round(master.depth, 3),
        empty_percent: percent(master.empty.real() / pixels.max(1).real()),
        noise: in_units(master.noise, 4),
        noise_gain: round(quietest / as_seen.max(f64::MIN_POSITIVE), 3),
        noise_gain_best: round(best.sqrt(), 3),
        units_of: frames[master.units_of].name(),
        compared: Vec::new(),
        doubts: doubts(set, master, pixels),
        drops: master.dropped.map(|d| DropsRow {
            side_px: d.drops.side_px,
            shape: match d.drops.shape {
                DropShape::Square => "square",
                DropShape::Gaussian => "gaussian",
            },
            own_pixels: d.own_pixels,
            holes_percent: percent(d.holes.real() / pixels.max(1).real()),
            phases_percent: percent(d.phases),
            noise_tied: round(d.tied, 3),
        }),
        lights: of.iter().map(light).collect(),
    }
}

/// More pixels than this part without anything on them are holes that are seen.
const HOLES: f64 = 1e-4;

/// Dithers that have visited fewer of the places between pixels do not suffice.
const PHASES: f64 = 0.5;

/// What should be known of a master.
fn doubts(set: &Set, master: &Master, pixels: usize) -> Vec<String> {
    let mut doubts = Vec::new();
    if let 1 | 2 = set.frames() {
        doubts.push(format!(
            "it has {} only: nobody knows which is right where they differ, so trails and cosmic rays stay in it",
            if set.frames() == 1 { "one frame" } else { "two frames" },
        ));
    }
    let Some(d) = &master.dropped else {
        return doubts;
    };
    let holes = d.holes.real() / pixels.max(1).real();
    if holes > HOLES {
        doubts.push(format!(
            "nothing has fallen on {:.2} % of its pixels: they are missing. Larger drops (--drop), a coarser canvas (--scale) or more \
             frames fill them",
            100.0 * holes
        ));
    }
    if d.phases < PHASES {
        doubts.push(format!(
            "its frames' dithers have visited {:.0} % of the places between pixels: drops show no more there than interpolation \
             does. It takes more frames, or dithers by parts of a pixel",
            100.0 * d.phases
        ));
    }
    doubts
}
