//! A colour camera's frame as the pixels of one colour, where they lie: the others are missing, and nothing is made up.

use super::pattern::{Colour, Pattern};
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::space::{Rect, Size};

/// A colour's own pixels.
pub struct OwnPixels<S> {
    /// The frame, calibrated.
    pub source: S,
    /// Colours before its pixels.
    pub pattern: Pattern,
    /// The colour that is wanted.
    pub colour: Colour,
}

impl<S: FrameSource> FrameSource for OwnPixels<S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.source.read(rect, out)?;
        for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width.max(1))) {
            for (x, v) in row.iter_mut().enumerate() {
                if self.pattern.at(rect.x + x.whole(), y) != self.colour {
                    *v = f32::NAN;
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;

    #[test]
    fn a_quarter_is_red_a_quarter_blue_and_half_green() {
        let plane = Plane::from_fn(Size::new(6, 4).unwrap(), |x, y| (10 * y + x).single());
        let rect = Rect {
            x: 1,
            y: 1,
            width: 4,
            height: 2,
        };
        let of = |colour| {
            let own = OwnPixels {
                source: plane.clone(),
                pattern: Pattern::from_letters("RGGB").unwrap(),
                colour,
            };
            let mut out = vec![0.0; 8];
            own.read(rect, &mut out).unwrap();
            out.into_iter()
                .filter(|v| v.is_finite())
                .collect::<Vec<f32>>()
        };
        assert_eq!(of(0), [22.0, 24.0]);
        assert_eq!(of(1), [12.0, 14.0, 21.0, 23.0]);
        assert_eq!(of(2), [11.0, 13.0]);
    }
}
