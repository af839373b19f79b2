//! Calibrated pixels of a raw frame, read on the fly: less what is there without light, over what the optics and the
//! pixel make of even light, with defects made up from their neighbours.
//!
//! A window is the same whatever else is read, so that any tiling gives the same bits.

use std::cell::RefCell;

use multiversion::multiversion;

use super::defects::Defects;
use super::glow::Glow;
use super::repair::Repair;
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::space::{Rect, Size};

/// A flat below this part of its middle holds no light to be recovered.
const LEAST_FLAT: f32 = 0.02;

/// A dark master and how much of it a light has.
#[derive(Debug, Clone)]
pub struct Dark<S> {
    /// The master, which holds the bias.
    pub master: S,
    /// The part of its dark current that the light has; 1 for a dark of the light's own exposure and temperature.
    pub factor: f64,
    /// An amplifier's glow in it, and the part of that which the light has, where it is another one.
    pub glow: Option<(Glow, f64)>,
}

/// What a light needs. Masters have its size.
#[derive(Debug, Clone)]
pub struct Calibration<S, D> {
    /// The bias master.
    pub bias: Option<S>,
    /// The dark master. One whose factor is not 1 needs the bias.
    pub dark: Option<Dark<S>>,
    /// The flat master, 1 where the light is usual.
    pub flat: Option<S>,
    /// Pixels of the chip that are made up.
    pub defects: Option<D>,
    /// Those that are in this frame alone.
    pub own: Option<D>,
    /// How far apart pixels of one colour are: 1, or 2 behind a colour camera's pattern.
    pub step: i64,
    /// What values are multiplied by at last: electrons for a unit.
    pub gain: f64,
}

impl<S, D> Default for Calibration<S, D> {
    fn default() -> Self {
        Self {
            bias: None,
            dark: None,
            flat: None,
            defects: None,
            own: None,
            step: 1,
            gain: 1.0,
        }
    }
}

/// A master that cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("its {what} cannot be read: {error}")]
pub struct MasterError {
    /// Which of its masters.
    what: &'static str,
    /// What its source says.
    error: DoorError,
}

/// A raw frame read through its calibration.
pub struct Calibrated<S, D> {
    raw: S,
    with: Calibration<S, D>,
}

thread_local! {
    // A master's window, and the bias's where both are needed.
    static WINDOWS: RefCell<(Vec<f32>, Vec<f32>)> = RefCell::default();
}

impl<S: FrameSource, D: AsRef<Defects> + Sync> Calibrated<S, D> {
    /// A frame and what it needs.
    pub const fn new(raw: S, with: Calibration<S, D>) -> Self {
        Self { raw, with }
    }

    /// Calibrated values without the repair of defects.
    fn plain(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.raw.read(rect, out)?;
        WINDOWS.with_borrow_mut(|(window, second)| {
            let with = &self.with;
            let read = |from: &S, what: &'static str, into: &mut Vec<f32>| {
                into.resize(rect.area(), 0.0);
                let read = from.read(rect, into);
                read.map_err(|error| DoorError(Box::new(MasterError { what, error })))
            };
            match (&with.bias, &with.dark) {
                (_, Some(dark)) if dark.factor == 1.0 && dark.glow.is_none() => {
                    read(&dark.master, "dark", window)?;
                    less(out, window);
                }
                (Some(bias), Some(dark)) => {
                    read(&dark.master, "dark", window)?;
                    read(bias, "bias", second)?;
                    less_scaled(out, second, window, dark.factor.single());
                    if let Some((glow, part)) = &dark.glow {
                        glow.take_off(rect, (part - dark.factor).single(), out);
                    }
                }
                (Some(bias), None) => {
                    read(bias, "bias", window)?;
                    less(out, window);
                }
                // A dark of another exposure without a bias is none that can be scaled.
                (None, _) => {}
            }
            let gain = with.gain.single();
            match &with.flat {
                Some(flat) => {
                    read(flat, "flat", window)?;
                    over(out, window, gain);
                }
                None if gain != 1.0 => out.iter_mut().for_each(|v| *v *= gain),
                None => {}
            }
            Ok(())
        })
    }
}

impl<S: FrameSource, D: AsRef<Defects> + Sync> FrameSource for Calibrated<S, D> {
    fn size(&self) -> Size {
        self.raw.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.plain(rect, out)?;
        let repair = Repair {
            chip: self.with.defects.as_ref().map(AsRef::as_ref),
            own: self.with.own.as_ref().map(AsRef::as_ref),
            step: self.with.step,
        };
        // What lies beyond the window is read once more: a few pixels for a defect at its rim.
        repair.repair(rect, out, |around, pixels| self.plain(around, pixels))
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn less(out: &mut [f32], what: &[f32]) {
    for (o, w) in out.iter_mut().zip(what) {
        *o -= w;
    }
}

/// Less the bias and so much of the dark current.
#[multiversion(targets("x86_64+avx2"))]
fn less_scaled(out: &mut [f32], bias: &[f32], dark: &[f32], factor: f32) {
    for ((o, b), d) in out.iter_mut().zip(bias).zip(dark) {
        *o -= b + factor * (d - b);
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn over(out: &mut [f32], flat: &[f32], gain: f32) {
    for (o, f) in out.iter_mut().zip(flat) {
        *o = if *f > LEAST_FLAT {
            gain * *o / f
        } else {
            f32::NAN
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calibrate::defects::Flaw;
    use crate::plane::Plane;
    use std::sync::Arc;

    fn plane(value: impl Fn(usize, usize) -> f32) -> Plane {
        Plane::from_fn(Size::new(50, 40).unwrap(), value)
    }

    fn read(c: &Calibrated<Plane, Arc<Defects>>, rect: Rect) -> Vec<f32> {
        let mut out = vec![0.0; rect.area()];
        c.read(rect, &mut out).unwrap();
        out
    }

    #[test]
    fn light_comes_out_of_what_the_camera_made_of_it() {
        let light = |x: usize, y: usize| 100.0 + x.single() + 2.0 * y.single();
        let bias = |x: usize| 500.0 + (x % 3).single();
        let current = |x: usize, y: usize| ((x * y) % 7).single();
        let flat = |x: usize| 1.0 - 0.005 * x.single();
        let c = Calibrated::new(
            plane(|x, y| bias(x) + 0.4 * current(x, y) + light(x, y) * flat(x)),
            Calibration {
                bias: Some(plane(|x, _| bias(x))),
                dark: Some(Dark {
                    master: plane(|x, y| bias(x) + current(x, y)),
                    factor: 0.4,
                    glow: None,
                }),
                flat: Some(plane(|x, _| flat(x))),
                defects: None::<Arc<Defects>>,
                own: None,
                step: 1,
                gain: 2.0,
            },
        );
        let all = read(&c, c.size().rect());
        for (i, v) in all.iter().enumerate() {
            assert!((v - 2.0 * light(i % 50, i / 50)).abs() < 1e-3, "{i}: {v}");
        }
    }

    #[test]
    fn any_window_has_the_same_bits_defects_and_all() {
        let flaws = [(0, 0), (9, 9), (10, 9), (24, 20), (49, 39), (24, 21)];
        let defects = Defects::new(
            Size::new(50, 40).unwrap(),
            flaws.map(|(x, y)| (x, y, Flaw::Hot)).to_vec(),
        );
        let c = Calibrated::new(
            plane(|x, y| ((x * 31 + y * 17) % 101).single()),
            Calibration {
                defects: Some(Arc::new(defects)),
                ..Calibration::default()
            },
        );
        let whole = read(&c, c.size().rect());
        for (x, y) in [(0, 0), (9, 9), (10, 10), (24, 20), (3, 21)] {
            for (width, height) in [(1, 1), (2, 3), (25, 19)] {
                let rect = Rect {
                    x,
                    y,
                    width,
                    height,
                };
                for (i, v) in read(&c, rect).iter().enumerate() {
                    let at = (y.index() + i / width) * 50 + x.index() + i % width;
                    assert_eq!(v.to_bits(), whole[at].to_bits());
                }
            }
        }
    }
}
