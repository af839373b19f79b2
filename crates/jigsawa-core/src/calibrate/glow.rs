//! An amplifier's glow in a dark: what is smooth in it. It grows with the time as the dark current does, but not with the
//! temperature, so a dark that is scaled for another temperature has it in another part.

use rayon::prelude::*;

use super::average::bands;
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::{median, quantile};
use crate::space::Rect;

/// Pixels of a cell's side: a glow falls off over hundreds, and the median of so many pixels is known to a tenth of their
/// noise. Hot ones do not move it.
const CELL: usize = 16;

/// The part of a dark's cells that is taken to be free of the glow.
const FREE: f64 = 0.3;

/// The smooth part of a dark current, above its level far from the amplifier.
#[derive(Debug, Clone)]
pub struct Glow {
    /// Medians of cells, less the floor.
    cells: Plane,
}

impl Glow {
    /// The glow in a dark current (a dark less its bias). `None` where there is none to speak of: nowhere higher than
    /// `least` over the rest.
    pub fn measure(current: &Plane, least: f32) -> Option<Self> {
        let cells = levels(current).ok()?;
        let (size, mut levels) = (cells.size(), cells.into_data());
        let mut known: Vec<f32> = levels.iter().copied().filter(|v| v.is_finite()).collect();
        if known.is_empty() {
            return None;
        }
        let floor = quantile(&mut known, FREE);
        for level in &mut levels {
            *level = if level.is_finite() {
                *level - floor
            } else {
                0.0
            };
        }
        // Of one cell alone, noise.
        let highest = quantile(&mut levels.clone(), 0.998);
        let cells = Plane::new(size, levels)?;
        (highest > least).then_some(Self { cells })
    }

    /// Its height over the cells of a frame, as [`levels`] has them.
    pub(super) const fn cells(&self) -> &Plane {
        &self.cells
    }

    /// Takes a part of it off a window.
    pub fn take_off(&self, rect: Rect, part: f32, out: &mut [f32]) {
        let (columns, rows) = (self.cells.size().width(), self.cells.size().height());
        // The cells on both sides of a place, and how far it is from the first one's middle.
        let between = |at: i64, n: usize| {
            let place = ((at.single() + 0.5) / CELL.single() - 0.5).clamp(0.0, (n - 1).single());
            let first = place.index().min(n.saturating_sub(2));
            (first, (first + 1).min(n - 1), place - first.single())
        };
        for (y, out) in (rect.y..).zip(out.chunks_exact_mut(rect.width)) {
            let (r0, r1, v) = between(y, rows);
            let (above, below) = (self.cells.row(r0), self.cells.row(r1));
            for (x, o) in (rect.x..).zip(out) {
                let (c0, c1, u) = between(x, columns);
                let first = above[c0] + u * (above[c1] - above[c0]);
                let second = below[c0] + u * (below[c1] - below[c0]);
                *o -= part * (first + v * (second - first));
            }
        }
    }
}

/// The median of every cell of a frame; NaN where it has no value.
///
/// # Errors
/// When the frame cannot be read.
pub(super) fn levels(frame: &dyn FrameSource) -> Result<Plane, DoorError> {
    let size = frame.size();
    let of_row = |rect: Rect| -> Result<Vec<f32>, DoorError> {
        let mut pixels = vec![0.0; rect.area()];
        frame.read(rect, &mut pixels)?;
        let mut values = Vec::with_capacity(CELL * CELL);
        let cell = |x: usize| {
            values.clear();
            for row in pixels.chunks_exact(rect.width) {
                let row = &row[x..(x + CELL).min(rect.width)];
                values.extend(row.iter().copied().filter(|v| v.is_finite()));
            }
            median(&mut values)
        };
        Ok((0..rect.width).step_by(CELL).map(cell).collect())
    };
    let rows: Result<Vec<Vec<f32>>, DoorError> =
        bands(size, CELL).into_par_iter().map(of_row).collect();
    let levels = rows?.concat();
    let columns = size.width().div_ceil(CELL);
    Ok(Plane::from_fn(size.blocks(CELL), |x, y| {
        levels[y * columns + x]
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    #[test]
    fn a_glow_is_taken_off_to_a_hundredth_and_an_even_dark_has_none() {
        let size = Size::new(400, 300).unwrap();
        let height = |x: usize, y: usize| {
            let far = (399.0 - x.single()).hypot(299.0 - y.single());
            100.0 * (-(far / 90.0).powi(2)).exp()
        };
        let dark = Plane::from_fn(size, |x, y| 7.0 + height(x, y));
        let glow = Glow::measure(&dark, 2.0).unwrap();
        let rect = Rect {
            x: 31,
            y: 17,
            width: 350,
            height: 250,
        };
        let mut window = vec![0.0; rect.area()];
        glow.take_off(rect, -0.5, &mut window);
        for (i, v) in window.iter().enumerate() {
            let (x, y) = (31 + i % 350, 17 + i / 350);
            assert!((v - 0.5 * height(x, y)).abs() < 1.0, "{x} {y} {v}");
        }
        assert!(Glow::measure(&Plane::filled(size, 7.0), 2.0).is_none());
    }
}
