//! Quick looks: 8-bit pictures of frames for the eye, with marks, side by side, or as differences.
//!
//! [`Picture`] is what they are made of: red, green and blue, top row first. `draw` puts circles and
//! numbers on it; `difference` shows what one plane has more or less than another.

mod difference;
mod draw;
mod stamps;

pub use difference::difference;
pub use draw::{circle, number};
pub use stamps::{Stamps, stamps};

use crate::finish::{Shade, Stretch};
use crate::frame::RowOrder;
use crate::number::Convert;
use crate::plane::Plane;

/// An 8-bit colour picture, top row first.
///
/// # Guarantees
/// `rgb` holds three bytes for each of `width` x `height` pixels.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture {
    width: usize,
    height: usize,
    rgb: Vec<u8>,
}

impl Picture {
    /// A picture of one colour.
    pub fn filled(width: usize, height: usize, colour: [u8; 3]) -> Self {
        Self {
            width,
            height,
            rgb: colour.repeat(width * height),
        }
    }

    /// One plane in grey, as a viewer shows it.
    pub fn grey(plane: &Plane, order: RowOrder, shade: &Shade) -> Self {
        let table = shade.table();
        let mut row = vec![0; plane.size().width()];
        let of_row = |y: usize| {
            table.apply(plane.row(y), &mut row);
            row.iter().flat_map(|g| [*g; 3]).collect()
        };
        Self::by_rows(plane, order, of_row)
    }

    /// Three planes of one size in colour; `None` when their sizes differ.
    pub fn colour(planes: [&Plane; 3], order: RowOrder, stretch: &Stretch) -> Option<Self> {
        let size = planes[0].size();
        let of_row = |y: usize| -> Vec<u8> {
            let rows = planes.map(|p| p.row(y));
            (0..size.width())
                .flat_map(|x| stretch.apply([rows[0][x], rows[1][x], rows[2][x]]).0)
                .map(|v| (255.0 * v).round().byte())
                .collect()
        };
        planes
            .iter()
            .all(|p| p.size() == size)
            .then(|| Self::by_rows(planes[0], order, of_row))
    }

    fn by_rows(plane: &Plane, order: RowOrder, mut row: impl FnMut(usize) -> Vec<u8>) -> Self {
        let (width, height) = (plane.size().width(), plane.size().height());
        let rgb = (0..height)
            .flat_map(|i| {
                row(match order {
                    RowOrder::BottomUp => height - 1 - i,
                    RowOrder::TopDown => i,
                })
            })
            .collect();
        Self { width, height, rgb }
    }

    /// Pixels in a row.
    pub const fn width(&self) -> usize {
        self.width
    }

    /// Rows.
    pub const fn height(&self) -> usize {
        self.height
    }

    /// Red, green and blue of each pixel, row after row.
    pub fn rgb(&self) -> &[u8] {
        &self.rgb
    }

    /// Sets a pixel; outside of the picture nothing happens.
    pub fn set(&mut self, x: i64, y: i64, colour: [u8; 3]) {
        if (0..self.width.whole()).contains(&x) && (0..self.height.whole()).contains(&y) {
            let at = 3 * (y.index() * self.width + x.index());
            self.rgb[at..at + 3].copy_from_slice(&colour);
        }
    }

    /// The colour of a pixel; `None` outside.
    pub fn get(&self, x: usize, y: usize) -> Option<[u8; 3]> {
        if x >= self.width || y >= self.height {
            return None;
        }
        let at = 3 * (y * self.width + x);
        self.rgb[at..at + 3].try_into().ok()
    }

    /// Each pixel as a block of `factor` x `factor`, so that the frame's own pixels are seen.
    #[must_use]
    pub fn enlarged(&self, factor: usize) -> Self {
        let mut rgb = Vec::with_capacity(self.rgb.len() * factor * factor);
        for row in self.rgb.chunks_exact(3 * self.width) {
            let wide: Vec<u8> = row.chunks_exact(3).flat_map(|p| p.repeat(factor)).collect();
            for _ in 0..factor {
                rgb.extend_from_slice(&wide);
            }
        }
        Self {
            width: self.width * factor,
            height: self.height * factor,
            rgb,
        }
    }

    /// All pictures in rows on one, as near to a square as their number allows, with a gap between
    /// them. `None` for none.
    pub fn together(pictures: &[Self]) -> Option<Self> {
        const GAP: usize = 6;
        const BETWEEN: [u8; 3] = [64, 72, 80];
        let columns = pictures.len().real().sqrt().ceil().index();
        let width = pictures.iter().map(|p| p.width).max()?;
        let height = pictures.iter().map(|p| p.height).max()?;
        let rows = pictures.len().div_ceil(columns);
        let mut all = Self::filled(
            columns * (width + GAP) - GAP,
            rows * (height + GAP) - GAP,
            BETWEEN,
        );
        for (i, p) in pictures.iter().enumerate() {
            all.paste(
                p,
                (i % columns) * (width + GAP),
                (i / columns) * (height + GAP),
            );
        }
        Some(all)
    }

    /// Puts another picture on this one, which must be large enough there; what is too much is cut.
    pub fn paste(&mut self, other: &Self, x: usize, y: usize) {
        let wide = other.width.min(self.width.saturating_sub(x));
        let tall = other.height.min(self.height.saturating_sub(y));
        for row in 0..tall {
            let from = 3 * row * other.width;
            let to = 3 * ((y + row) * self.width + x);
            self.rgb[to..to + 3 * wide].copy_from_slice(&other.rgb[from..from + 3 * wide]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    #[test]
    fn the_first_row_stored_is_the_lowest_shown() {
        let plane = Plane::from_fn(Size::new(8, 6).unwrap(), |x, y| (10 * y + x).single());
        let shade = Shade::measure(plane.data()).unwrap();
        let up = Picture::grey(&plane, RowOrder::BottomUp, &shade);
        let down = Picture::grey(&plane, RowOrder::TopDown, &shade);
        assert_eq!(up.get(3, 0), down.get(3, 5));
        assert!(up.get(3, 0) > up.get(3, 5));
        assert_eq!(up.get(8, 0), None);
    }

    #[test]
    fn pictures_are_enlarged_and_put_together() {
        let red = Picture::filled(3, 2, [200, 0, 0]);
        let big = red.enlarged(4);
        assert_eq!((big.width(), big.height(), big.rgb().len()), (12, 8, 288));
        let three = Picture::together(&[red.clone(), red.clone(), red]).unwrap();
        assert_eq!((three.width(), three.height()), (12, 10));
        assert_eq!(three.get(9, 0), Some([200, 0, 0]));
        assert_eq!(three.get(9, 8), Some([64, 72, 80]));
        assert!(Picture::together(&[]).is_none());
    }
}
