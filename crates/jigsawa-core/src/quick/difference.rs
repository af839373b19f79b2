//! What a frame has more or less than another, pixel by pixel.

use super::Picture;
use crate::frame::RowOrder;
use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad, median};

/// A difference of so many noise widths is half-way from grey to black or white.
const HALF_WAY_SIGMA: f32 = 6.0;

/// `plane - base` around mid grey, lighter where the plane has more; a difference of the sky levels
/// does not count. Missing pixels are black. `None` when the sizes differ or nothing is there.
pub fn difference(plane: &Plane, base: &Plane, order: RowOrder) -> Option<Picture> {
    let size = plane.size();
    if size != base.size() {
        return None;
    }
    let pairs = || plane.data().iter().zip(base.data());
    let stride = (size.area() / 100_000).max(1);
    let mut sample: Vec<f32> = pairs()
        .step_by(stride)
        .map(|(a, b)| a - b)
        .filter(|d| d.is_finite())
        .collect();
    if sample.is_empty() {
        return None;
    }
    let middle = median(&mut sample);
    let sigma = (mad(&mut sample, middle) * MAD_TO_SIGMA.single()).max(f32::MIN_POSITIVE);
    let mut out = Picture::filled(size.width(), size.height(), [0; 3]);
    for y in 0..size.height() {
        let shown = match order {
            RowOrder::BottomUp => size.height() - 1 - y,
            RowOrder::TopDown => y,
        };
        for (x, (a, b)) in plane.row(y).iter().zip(base.row(y)).enumerate() {
            let d = (a - b - middle) / (HALF_WAY_SIGMA * sigma);
            if d.is_finite() {
                // From -1 to 1, straight near zero.
                let bent = d / (1.0 + d.abs());
                let grey = (127.5 + 127.5 * bent).round().byte();
                out.set(x.whole(), shown.whole(), [grey; 3]);
            }
        }
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    #[test]
    fn more_is_lighter_and_the_same_is_grey() {
        let size = Size::new(40, 30).unwrap();
        let noise = |x: usize, y: usize| ((x * 7 + y * 13) % 11).single() - 5.0;
        let base = Plane::from_fn(size, |_, _| 100.0);
        let mut plane = Plane::from_fn(size, |x, y| 150.0 + noise(x, y));
        plane.data_mut()[5 * 40 + 7] += 500.0;
        plane.data_mut()[9 * 40 + 8] -= 500.0;
        plane.data_mut()[0] = f32::NAN;
        let d = difference(&plane, &base, RowOrder::TopDown).unwrap();
        assert!(d.get(7, 5).unwrap()[0] > 240 && d.get(8, 9).unwrap()[0] < 15);
        assert!((100..155).contains(&d.get(20, 20).unwrap()[0]));
        assert_eq!(d.get(0, 0), Some([0; 3]));
        let other = Plane::filled(Size::new(39, 30).unwrap(), 1.0);
        assert!(difference(&other, &base, RowOrder::TopDown).is_none());
    }
}
