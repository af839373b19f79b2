//! An image plane: linear `f32` values in row order; NaN means no data.

use crate::number::Convert;
use crate::space::{Rect, Size};

/// One plane of pixels in the units of its file.
///
/// # Guarantees
/// `data` holds exactly `size.area()` values, row after row.
#[derive(Debug, Clone, PartialEq)]
pub struct Plane {
    size: Size,
    data: Vec<f32>,
}

impl Plane {
    /// `None` when the number of values is not that of the size.
    pub fn new(size: Size, data: Vec<f32>) -> Option<Self> {
        (data.len() == size.area()).then_some(Self { size, data })
    }

    /// A plane of one value.
    pub fn filled(size: Size, value: f32) -> Self {
        Self {
            size,
            data: vec![value; size.area()],
        }
    }

    /// A plane whose pixel (x, y) is `value(x, y)`.
    pub fn from_fn(size: Size, mut value: impl FnMut(usize, usize) -> f32) -> Self {
        let data = (0..size.height())
            .flat_map(|y| (0..size.width()).map(move |x| (x, y)))
            .map(|(x, y)| value(x, y))
            .collect();
        Self { size, data }
    }

    /// Width and height.
    pub const fn size(&self) -> Size {
        self.size
    }

    /// All values in row order.
    pub fn data(&self) -> &[f32] {
        &self.data
    }

    /// All values in row order, to be changed in place.
    pub fn data_mut(&mut self) -> &mut [f32] {
        &mut self.data
    }

    /// The values, for reuse of the memory.
    pub fn into_data(self) -> Vec<f32> {
        self.data
    }

    /// Row `y`.
    ///
    /// # Panics
    /// When the plane has no such row.
    pub fn row(&self, y: usize) -> &[f32] {
        let w = self.size.width();
        &self.data[y * w..(y + 1) * w]
    }

    /// The value at (x, y), or NaN outside.
    pub fn at(&self, x: i64, y: i64) -> f32 {
        let inside =
            x >= 0 && y >= 0 && x < self.size.width().whole() && y < self.size.height().whole();
        if inside {
            self.data[y.index() * self.size.width() + x.index()]
        } else {
            f32::NAN
        }
    }

    /// Copies the pixels of `rect` into `out`, NaN where it reaches outside.
    ///
    /// # Panics
    /// When `out` does not have `rect.area()` values.
    pub fn window(&self, rect: Rect, out: &mut [f32]) {
        assert_eq!(out.len(), rect.area());
        let inside = rect.intersect(self.size.rect());
        if inside != rect {
            out.fill(f32::NAN);
        }
        for y in inside.y..inside.bottom() {
            let from = &self.row(y.index())[inside.x.index()..inside.right().index()];
            let at = (y - rect.y).index() * rect.width + (inside.x - rect.x).index();
            out[at..at + inside.width].copy_from_slice(from);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_window_is_nan_where_it_reaches_outside() {
        let p = Plane::from_fn(Size::new(3, 2).unwrap(), |x, y| (10 * y + x).single());
        let rect = Rect {
            x: 1,
            y: -1,
            width: 3,
            height: 2,
        };
        let mut out = [0.0; 6];
        p.window(rect, &mut out);
        assert!(out[..3].iter().all(|v| v.is_nan()));
        assert_eq!(out[3..5], [1.0, 2.0]);
        assert!(out[5].is_nan());
        assert!(p.at(3, 0).is_nan() && p.at(0, -1).is_nan());
    }

    #[test]
    fn a_plane_needs_as_many_values_as_pixels() {
        assert!(Plane::new(Size::new(3, 2).unwrap(), vec![0.0; 5]).is_none());
    }
}
