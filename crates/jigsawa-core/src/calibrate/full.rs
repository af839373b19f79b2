//! The value of a full pixel, seen in raw frames: many pixels, stars' cores and hot ones, have exactly the highest value.

use rayon::prelude::*;

use super::average::bands;
use crate::doors::{DoorError, FrameSource};
use crate::space::Rect;

/// So many pixels have the highest value where it is a limit: that two of a thousand noisy ones meet by chance is common,
/// that eight do is not.
const PILED_UP: usize = 8;

/// A limit below this is none of a camera's, but an even frame's.
const LEAST: f32 = 1000.0;

/// Rows that are looked through at a time.
const ROWS: usize = 64;

/// The value at which pixels of some frames of one camera pile up. `None` where none is full.
///
/// # Errors
/// When one cannot be read.
pub fn full(frames: &[&dyn FrameSource]) -> Result<Option<f32>, DoorError> {
    let mut highest = (f32::NEG_INFINITY, 0);
    for frame in frames {
        let found: Result<Vec<(f32, usize)>, DoorError> = bands(frame.size(), ROWS)
            .into_par_iter()
            .map(|rect| of_band(*frame, rect))
            .collect();
        highest = found?.into_iter().fold(highest, together);
    }
    Ok(Some(highest.0).filter(|v| highest.1 >= PILED_UP && *v >= LEAST))
}

/// The higher of two highest values, and how many pixels have it.
fn together(a: (f32, usize), b: (f32, usize)) -> (f32, usize) {
    match a.0.total_cmp(&b.0) {
        std::cmp::Ordering::Equal => (a.0, a.1 + b.1),
        std::cmp::Ordering::Greater => a,
        std::cmp::Ordering::Less => b,
    }
}

fn of_band(frame: &dyn FrameSource, rect: Rect) -> Result<(f32, usize), DoorError> {
    let mut values = vec![0.0f32; rect.area()];
    frame.read(rect, &mut values)?;
    let finite = values.iter().copied().filter(|v| v.is_finite());
    let highest = finite.fold(f32::NEG_INFINITY, f32::max);
    Ok((highest, values.iter().filter(|v| **v == highest).count()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::number::Convert;
    use crate::plane::Plane;
    use crate::space::Size;

    #[test]
    fn full_pixels_pile_up_and_noisy_ones_do_not() {
        let size = Size::new(90, 70).unwrap();
        let star = |limit: f32| {
            Plane::from_fn(size, move |x, y| {
                let r2 = (x.single() - 40.0).powi(2) + (y.single() - 30.0).powi(2);
                let noise = ((x * 31 + y * 17) % 13).single();
                (500.0 + noise + 60_000.0 * (-r2 / 20.0).exp()).min(limit)
            })
        };
        let (open, limited) = (star(f32::INFINITY), star(16_380.0));
        assert_eq!(full(&[&open]).unwrap(), None);
        assert_eq!(full(&[&open, &limited]).unwrap(), None);
        assert_eq!(full(&[&limited, &limited]).unwrap(), Some(16_380.0));
        assert_eq!(full(&[&Plane::filled(size, 7.0)]).unwrap(), None);
    }
}
