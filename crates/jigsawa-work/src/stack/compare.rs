//! How much is enough: a part of the canvas from the best few frames, from more of them, and from all, with the noise that is
//! measured in each.

use std::str::FromStr;

use jigsawa_core::doors::{DoorError, TileSink};
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::{Budget, Input, merge_parts, parts};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::resample::Shape;
use jigsawa_core::robust::{MAD_TO_SIGMA, mad, median};
use jigsawa_core::space::{Rect, Size};
use jigsawa_core::stack::{Group, PLANES, Pass, Rejected, Residuals, Stacked};
use jigsawa_core::stars::{Settings, detect};

use super::lights::{StackSettings, lights};
use super::sets::Set;
use super::write::input;
use crate::normalize::KnownFrames;
use crate::outputs::stopped;
use crate::pixels::Pixels;
use crate::run::Run;
use crate::trouble::Trouble;

/// `--compare 1,10,all`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CompareArg(Vec<Option<usize>>);

impl FromStr for CompareArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let number = |t: &str| match t.trim() {
            "all" => Some(None),
            n => n.parse().ok().filter(|n: &usize| *n > 0).map(Some),
        };
        let all: Option<Vec<Option<usize>>> = text.split(',').map(number).collect();
        all.map(Self)
            .ok_or_else(|| "write numbers of frames, as in 1,10,all".to_owned())
    }
}

impl CompareArg {
    /// The numbers for so many frames, rising, none twice; all frames are always among them, for the others are held against
    /// these.
    fn of(&self, frames: usize) -> Vec<usize> {
        let wanted = self.0.iter().map(|n| n.unwrap_or(frames).min(frames));
        let mut counts: Vec<usize> = wanted.chain([frames]).collect();
        counts.sort_unstable();
        counts.dedup();
        counts
    }
}

/// What so many frames show.
pub struct Compared {
    /// How many: the best ones.
    pub frames: usize,
    /// A part of the canvas from them.
    pub part: Plane,
    /// The noise of a pixel, as it is measured there.
    pub noise: f64,
    /// The noise that faint light is seen against: of means over 8 x 8 pixels, times 8.
    pub deep_noise: f64,
    /// Width of its stars; none where too few are seen. A faint star's light is known to the noise times this.
    pub fwhm_px: Option<f64>,
}

/// The width of fewer stars than these says little.
const LEAST_STARS: usize = 5;

/// The part that is shown: whole cells of the noise.
const PART: (usize, usize) = (448, 304);

/// Stacks a part of the canvas from some numbers of the best frames; of a colour camera's green.
pub fn compare(
    set: &Set,
    (known, layout): (&KnownFrames<'_>, &Layout),
    wanted: &CompareArg,
    how: (&StackSettings, Shape),
    run: &Run<'_>,
) -> Result<Vec<Compared>, Trouble> {
    let list = &set.planes[set.planes.len() / 2];
    let weight = |i: &usize| layout.frames[*i].balance.as_ref().map_or(0.0, |b| b.weight);
    let mut best = list.clone();
    best.sort_by(|a, b| weight(b).total_cmp(&weight(a)));
    let counts = wanted.of(best.len());
    let progress = run.begin("compare", counts.len() + 2);
    let stack = |frames: &[usize]| {
        let stacked = part_of(frames, set, (known, layout), how, run);
        progress.step();
        stacked
    };
    let firsts: Vec<Plane> = counts
        .iter()
        .map(|n| stack(&best[..*n]))
        .collect::<Result<_, _>>()?;
    // All frames are held against nothing that is better: their two halves tell.
    let halves: Vec<Vec<usize>> = (0..2)
        .map(|k| best.iter().skip(k).step_by(2).copied().collect())
        .collect();
    let of = |frames: &[usize]| frames.iter().map(weight).sum::<f64>();
    let all = of(&best);
    let (noise, deep_noise) = if best.len() > 1 {
        let (a, b) = (stack(&halves[0])?, stack(&halves[1])?);
        let factor = (of(&halves[0]) * of(&halves[1])).sqrt() / all;
        let (pixel, deep) = scatter(&a, &b);
        (factor * pixel, factor * deep)
    } else {
        (f64::NAN, f64::NAN)
    };
    let last = firsts.len() - 1;
    let whole = firsts[last].clone();
    let result = counts.iter().zip(firsts).enumerate().map(|(k, (n, part))| {
        // A stack that is part of another, both weighed by their noise: their variances' difference is that of the difference.
        let (noise, deep_noise) = if k == last {
            (noise, deep_noise)
        } else {
            let (pixel, deep) = scatter(&part, &whole);
            let factor = 1.0 / (1.0 - of(&best[..*n]) / all).sqrt();
            (factor * pixel, factor * deep)
        };
        let seen = detect(&part, None, &Settings::default());
        let fwhm_px = seen.ok().filter(|c| c.stars.len() >= LEAST_STARS);
        Compared {
            frames: *n,
            fwhm_px: fwhm_px.map(|c| c.fwhm_px),
            part,
            noise,
            deep_noise,
        }
    });
    Ok(result.collect())
}

/// The part of the canvas from some frames.
fn part_of(
    frames: &[usize],
    set: &Set,
    (known, layout): (&KnownFrames<'_>, &Layout),
    (how, shape): (&StackSettings, Shape),
    run: &Run<'_>,
) -> Result<Plane, Trouble> {
    let of = lights(frames, set, (known, layout))?;
    let sources: Vec<Pixels<'_>> = frames.iter().map(|i| known.frames[*i].source()).collect();
    let each = frames.iter().zip(&sources).zip(&of.balances);
    let inputs: Vec<Input<'_>> = each
        .map(|((i, source), balance)| input((known, layout), *i, source, balance, shape))
        .collect::<Result<_, _>>()?;
    let canvas = layout.canvas.size;
    let op = Stacked {
        groups: vec![Group {
            inputs: 0..frames.len(),
            rejection: how.rejection(&of.parts),
            lights: of.parts,
            sky: of.sky,
        }],
        rejected: Rejected::new(canvas, frames.len()),
        pass: Pass::First(Residuals::new(canvas, frames.len())),
    };
    let mut crop = Crop::of(canvas);
    let tiles = crop.tiles();
    let budget = Budget { bytes: run.memory };
    merge_parts(&inputs, &tiles, &op, budget, &mut crop, &|_, _| ())
        .map_err(|e| stopped(e, |k| known.frames[frames[k]].name(), "--compare".as_ref()))?;
    Ok(crop.plane)
}

/// Standard deviations of a difference: of pixels, and of means over 8 x 8 of them, times 8.
fn scatter(a: &Plane, b: &Plane) -> (f64, f64) {
    const SIDE: usize = 8;
    let size = a.size();
    let off = Plane::from_fn(size, |x, y| {
        a.at(x.whole(), y.whole()) - b.at(x.whole(), y.whole())
    });
    let width = |mut values: Vec<f32>| {
        values.retain(|v| v.is_finite());
        let middle = median(&mut values);
        MAD_TO_SIGMA * f64::from(mad(&mut values, middle))
    };
    let blocks = jigsawa_core::binned(&off, SIDE).into_data();
    (width(off.into_data()), SIDE.real() * width(blocks))
}

/// A part of the canvas in memory.
struct Crop {
    rect: Rect,
    plane: Plane,
}

impl Crop {
    /// The middle, from the corner of a cell of the noise on.
    fn of(canvas: Size) -> Self {
        let (w, h) = (PART.0.min(canvas.width()), PART.1.min(canvas.height()));
        let start = |n: usize, part: usize, cell: usize| ((n - part) / 2 / cell * cell).whole();
        let size = Size::new(w, h).unwrap_or(canvas);
        Self {
            rect: Rect {
                x: start(canvas.width(), w, 128),
                y: start(canvas.height(), h, 8),
                width: w,
                height: h,
            },
            plane: Plane::filled(size, f32::NAN),
        }
    }

    fn tiles(&self) -> Vec<Rect> {
        let all = parts(self.plane.size(), (512, 128));
        let moved = |r: Rect| Rect {
            x: r.x + self.rect.x,
            y: r.y + self.rect.y,
            ..r
        };
        all.into_iter().map(moved).collect()
    }
}

impl TileSink for Crop {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        debug_assert_eq!(planes.len(), PLANES);
        let width = self.rect.width;
        let (x, y) = (
            (rect.x - self.rect.x).index(),
            (rect.y - self.rect.y).index(),
        );
        for (i, row) in planes[0].chunks_exact(rect.width).enumerate() {
            let at = (y + i) * width + x;
            self.plane.data_mut()[at..at + rect.width].copy_from_slice(row);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_rise_and_all_frames_are_among_them() {
        let arg: CompareArg = "10, 1,all,50".parse().unwrap();
        assert_eq!(arg.of(24), [1, 10, 24]);
        assert_eq!(arg.of(5), [1, 5]);
        assert!("0".parse::<CompareArg>().is_err() && "1,,2".parse::<CompareArg>().is_err());
    }
}
