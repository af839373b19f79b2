//! Frames of a set that do not belong to it: a dark with light in it, a flat that is full.

use crate::doors::{DoorError, FrameSource};
use crate::frame::Kind;
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, clipped, mad, median, quantile};

use super::set::sample;

/// Rows that are looked at.
const ROWS: usize = 48;

/// Levels of a frame.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Levels {
    /// The middle value.
    pub median: f32,
    /// The scatter of its pixels.
    pub sigma: f32,
    /// What a thousandth of its pixels is above.
    pub high: f32,
}

impl Levels {
    /// Those of a frame; `None` where it has no value.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn measure(frame: &dyn FrameSource) -> Result<Option<Self>, DoorError> {
        let mut values = sample(frame, ROWS)?;
        values.retain(|v| v.is_finite());
        if values.is_empty() {
            return Ok(None);
        }
        let high = quantile(&mut values, 0.999);
        let median = median(&mut values);
        let width = clipped(&mut values, 3.0, 3.0, &mut Vec::new());
        Ok(Some(Self {
            median,
            sigma: width.map_or(0.0, |w| w.sigma),
            high,
        }))
    }
}

/// Why a frame does not belong to its set.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Stray {
    /// Its level is another one than that of the others, by so much.
    OtherLevel {
        /// Its own.
        is: f32,
        /// That of the others.
        others: f32,
    },
    /// Its hot pixels are so many times as hot as those of the others: another exposure or temperature.
    OtherHeat {
        /// So many times.
        times: f32,
    },
    /// So large a part of the full value that it is no measure of light any more.
    TooBright {
        /// The part.
        part: f32,
    },
    /// So small a part of it that its noise is larger than what it corrects.
    TooDim {
        /// The part.
        part: f32,
    },
    /// It has no values.
    Empty,
}

/// A flat is too bright above this part of the full value, where cameras stop to be linear, and too dim below.
const BRIGHT: f32 = 0.9;
const DIM: f32 = 0.02;

/// A frame stands out of its set by so many widths of the others' levels, and by the noise of a pixel at the least.
const OUT_SIGMA: f32 = 8.0;

/// Hot pixels that differ by this factor are of another exposure or temperature.
const OTHER_HEAT: f32 = 1.5;

/// Why what a master takes off is not what lights have.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Misfit {
    /// It is brighter than the lights.
    Brighter {
        /// Its level.
        is: f32,
        /// That of the lights.
        lights: f32,
    },
    /// Its values are of another scale, from 0 to 1, as those that other programs write.
    OtherScale,
}

/// A scale from 0 to 1 ends here; lights that are counted are higher than this.
const END_OF_SCALE: f32 = 1.0;
const COUNTED: f32 = 20.0;

/// Does a dark or bias master take off what lights cannot have? By the levels of one light.
pub fn misfit(master: &Levels, light: &Levels) -> Option<Misfit> {
    let scaled = |l: &Levels| l.high <= END_OF_SCALE;
    let counted = |l: &Levels| l.median > COUNTED;
    if (scaled(master) && counted(light)) || (scaled(light) && counted(master)) {
        return Some(Misfit::OtherScale);
    }
    (master.median > light.median + light.sigma.max(1.0)).then_some(Misfit::Brighter {
        is: master.median,
        lights: light.median,
    })
}

/// Which frames of a set do not belong to it. `full` is the value of a full pixel, where it is known.
pub fn strays(kind: Kind, levels: &[Option<Levels>], full: Option<f32>) -> Vec<Option<Stray>> {
    let known: Vec<Levels> = levels.iter().copied().flatten().collect();
    let middle = |of: fn(&Levels) -> f32| {
        let mut all: Vec<f32> = known.iter().map(of).collect();
        let centre = median(&mut all);
        (centre, mad(&mut all, centre) * MAD_TO_SIGMA.single())
    };
    let ((level, spread), (sigma, _)) = (middle(|l| l.median), middle(|l| l.sigma));
    let (heat, _) = middle(|l| l.high - l.median);
    levels
        .iter()
        .map(|l| {
            let Some(l) = l else {
                return Some(Stray::Empty);
            };
            if kind == Kind::Flat {
                let part = l.median / full?;
                return match () {
                    () if part > BRIGHT => Some(Stray::TooBright { part }),
                    () if part < DIM => Some(Stray::TooDim { part }),
                    () => None,
                };
            }
            // Of two nobody knows which is the stray one.
            if known.len() < 3 {
                return None;
            }
            if (l.median - level).abs() > (OUT_SIGMA * spread).max(sigma) {
                return Some(Stray::OtherLevel {
                    is: l.median,
                    others: level,
                });
            }
            let times = (l.high - l.median) / heat;
            let stands = heat > 3.0 * sigma || l.high - l.median > 6.0 * sigma;
            let other = stands && !(1.0 / OTHER_HEAT..OTHER_HEAT).contains(&times);
            other.then_some(Stray::OtherHeat { times })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn levels(all: &[(f32, f32)]) -> Vec<Option<Levels>> {
        let of = |(median, over): &(f32, f32)| Levels {
            median: *median,
            sigma: 3.0,
            high: median + over,
        };
        all.iter().map(|l| Some(of(l))).collect()
    }

    #[test]
    fn a_light_among_darks_and_a_dark_of_another_length_are_found() {
        let set = [
            (500.2, 90.0),
            (500.0, 92.0),
            (499.9, 91.0),
            (620.0, 400.0),
            (500.1, 30.0),
            (501.0, 90.0),
        ];
        let found = strays(Kind::Dark, &levels(&set), None);
        assert!(matches!(found[3], Some(Stray::OtherLevel { .. })));
        assert!(matches!(found[4], Some(Stray::OtherHeat { .. })));
        assert_eq!(found.iter().flatten().count(), 2);
    }

    #[test]
    fn masters_of_another_scale_or_brighter_than_lights_do_not_fit() {
        let of = |median: f32, high: f32| Levels {
            median,
            sigma: 9.0,
            high,
        };
        let light = of(620.0, 4000.0);
        assert_eq!(misfit(&of(508.0, 700.0), &light), None);
        assert_eq!(misfit(&of(0.008, 0.1), &light), Some(Misfit::OtherScale));
        assert_eq!(
            misfit(&of(508.0, 700.0), &of(0.009, 0.5)),
            Some(Misfit::OtherScale)
        );
        assert!(matches!(
            misfit(&of(800.0, 900.0), &light),
            Some(Misfit::Brighter { .. })
        ));
        // A camera without a pedestal, under a dark sky.
        assert_eq!(misfit(&of(0.0, 30.0), &of(25.0, 90.0)), None);
    }

    #[test]
    fn full_and_dark_flats_are_found_where_the_full_value_is_known() {
        let set = levels(&[(30_000.0, 900.0), (61_000.0, 100.0), (800.0, 90.0)]);
        let found = strays(Kind::Flat, &set, Some(62_000.0));
        assert!(matches!(found[1], Some(Stray::TooBright { .. })));
        assert!(matches!(found[2], Some(Stray::TooDim { .. })));
        assert_eq!(strays(Kind::Flat, &set, None), [None, None, None]);
    }
}
