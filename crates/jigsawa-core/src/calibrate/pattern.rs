//! The colours before the pixels of a colour camera's chip.

use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::robust::median;
use crate::space::{Rect, Size};

/// One of three colours, as a number of a plane: red 0, green 1, blue 2.
pub type Colour = usize;

/// A block of 2 x 2 pixels with two green ones on a diagonal, one red and one blue, from the first pixel stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pattern([Colour; 4]);

impl Pattern {
    /// From four letters, row after row: `RGGB`. `None` for other colours or another order.
    pub fn from_letters(text: &str) -> Option<Self> {
        let colours: Vec<Colour> = text
            .bytes()
            .filter_map(|b| match b.to_ascii_uppercase() {
                b'R' => Some(0),
                b'G' => Some(1),
                b'B' => Some(2),
                _ => None,
            })
            .collect();
        let block: [Colour; 4] = colours.try_into().ok()?;
        let diagonal = (block[0] == 1 && block[3] == 1) || (block[1] == 1 && block[2] == 1);
        let sum: usize = block.iter().sum();
        (diagonal && sum == 4 && text.len() == 4 && block.contains(&0)).then_some(Self(block))
    }

    /// The colour of a pixel.
    #[inline]
    pub fn at(self, x: i64, y: i64) -> Colour {
        self.0[(2 * (y & 1) + (x & 1)).index()]
    }

    /// The same seen from a pixel further on.
    #[must_use]
    pub fn moved(self, x: i64, y: i64) -> Self {
        let of = |k: i64| self.at(x + (k & 1), y + (k >> 1));
        Self([of(0), of(1), of(2), of(3)])
    }

    /// In letters.
    pub fn letters(self) -> String {
        self.0.iter().map(|c| ['R', 'G', 'B'][*c]).collect()
    }

    /// Are the greens those of the diagonal that begins with the first pixel?
    pub const fn green_first(self) -> bool {
        self.0[0] == 1
    }
}

/// Pairs of rows that tell the medians of a block's four pixels.
const ROW_PAIRS: usize = 32;

/// The middle value of each of the four pixels of the blocks of 2 x 2.
///
/// # Errors
/// When the frame cannot be read.
pub fn cell_medians(frame: &dyn FrameSource) -> Result<[f32; 4], DoorError> {
    let size = frame.size();
    let pairs = ROW_PAIRS.min(size.height() / 2).max(1);
    let mut values: [Vec<f32>; 4] = Default::default();
    let mut rows = vec![0.0; 2 * size.width()];
    for i in 0..pairs {
        let y = ((2 * i + 1) * size.height() / (2 * pairs)) & !1;
        let rect = Rect {
            x: 0,
            y: y.whole(),
            width: size.width(),
            height: 2.min(size.height() - y),
        };
        frame.read(rect, &mut rows[..rect.area()])?;
        for (k, v) in rows[..rect.area()].iter().enumerate() {
            let (x, y) = (k % size.width(), k / size.width());
            if v.is_finite() {
                values[2 * y + (x & 1)].push(*v);
            }
        }
    }
    Ok(values.each_mut().map(|v| median(v)))
}

/// Greens that differ by less than this part, while the other diagonal's colours do by more than this, are found.
const ALIKE: f32 = 0.02;
const UNLIKE: f32 = 0.06;

/// Does the first pixel's diagonal hold the greens, by the medians of evenly lit pixels less their dark level? `None` where
/// both diagonals are alike, as under grey light.
pub fn greens_first(medians: [f32; 4]) -> Option<bool> {
    let apart = |a: f32, b: f32| (a - b).abs() / a.max(b).max(f32::MIN_POSITIVE);
    let (first, second) = (apart(medians[0], medians[3]), apart(medians[1], medians[2]));
    match () {
        () if first < ALIKE && second > UNLIKE => Some(true),
        () if second < ALIKE && first > UNLIKE => Some(false),
        () => None,
    }
}

/// A frame whose pixels are multiplied by a factor for each place in the blocks of 2 x 2.
pub struct PerCell<S> {
    /// The frame.
    pub source: S,
    /// Factors, row after row.
    pub factors: [f32; 4],
}

impl<S: FrameSource> FrameSource for PerCell<S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.source.read(rect, out)?;
        let first = self.factors[0];
        if self.factors == [first; 4] {
            if first != 1.0 {
                for v in out.iter_mut() {
                    *v *= first;
                }
            }
            return Ok(());
        }
        for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width.max(1))) {
            let of_row = &self.factors[2 * (y & 1).index()..][..2];
            let first = (rect.x & 1).index();
            for (k, v) in row.iter_mut().enumerate() {
                *v *= of_row[(first + k) & 1];
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
    fn patterns_are_read_moved_and_slips_refused() {
        let p = Pattern::from_letters("RGGB").unwrap();
        assert_eq!(
            (p.at(0, 0), p.at(1, 0), p.at(4, 7), p.at(5, 7)),
            (0, 1, 1, 2)
        );
        assert_eq!(p.moved(0, 1).letters(), "GBRG");
        assert_eq!(p.moved(1, 1).letters(), "BGGR");
        for wrong in ["RGB", "RRGB", "RGBG", "GGRB", "CMYG", "RGGBX"] {
            assert_eq!(Pattern::from_letters(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn greens_are_seen_and_grey_light_tells_nothing() {
        let p = Pattern::from_letters("GRBG").unwrap();
        let light = [0.7f32, 1.0, 0.5];
        let plane = Plane::from_fn(Size::new(40, 30).unwrap(), |x, y| {
            100.0 * light[p.at(x.whole(), y.whole())]
        });
        let medians = cell_medians(&plane).unwrap();
        assert_eq!(medians, [100.0, 70.0, 50.0, 100.0]);
        assert_eq!(greens_first(medians), Some(true));
        assert_eq!(greens_first([100.0, 100.0, 100.0, 99.0]), None);
        let even = PerCell {
            source: plane,
            factors: medians.map(|m| 1.0 / m),
        };
        let mut out = vec![0.0; 7 * 5];
        let rect = Rect {
            x: 3,
            y: 11,
            width: 7,
            height: 5,
        };
        even.read(rect, &mut out).unwrap();
        assert!(out.iter().all(|v| (v - 1.0).abs() < 1e-6));
    }
}
