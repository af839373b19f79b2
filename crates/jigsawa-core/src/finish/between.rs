//! A picture's light between its stars: what nebulae and galaxies have, small, for choosing how bright they are shown.
//!
//! The small copy of the picture is opened (the least of each neighbourhood, then the most of those: Serra 1982, Image
//! Analysis and Mathematical Morphology): what is narrower than a star's disc goes, everything wider stays as high as it is.

use crate::plane::Plane;

/// Half of the neighbourhood in widths of the stars, and the most of it in pixels of the small copy.
const HALF_WIDTHS: f64 = 1.2;
const MOST_PX: usize = 8;

/// The planes of a small copy, shrunk by `factor`, without what is as narrow as stars of this width.
pub(super) fn opened(planes: &[Plane], fwhm_px: f64, factor: usize) -> Vec<Plane> {
    let half = ((HALF_WIDTHS * fwhm_px / factor as f64).ceil() as usize).clamp(1, MOST_PX);
    planes
        .iter()
        .map(|p| spread(&spread(p, half, f32::min), half, f32::max))
        .collect()
}

/// Each pixel becomes the least or the most of the square around it; missing ones do not count.
fn spread(plane: &Plane, half: usize, of: fn(f32, f32) -> f32) -> Plane {
    let (width, height) = (plane.size().width(), plane.size().height());
    let along = Plane::from_fn(plane.size(), |x, y| {
        let row = &plane.row(y)[x.saturating_sub(half)..(x + half + 1).min(width)];
        row.iter().copied().fold(f32::NAN, of)
    });
    Plane::from_fn(plane.size(), |x, y| {
        (y.saturating_sub(half)..(y + half + 1).min(height))
            .map(|k| along.row(k)[x])
            .fold(f32::NAN, of)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    #[test]
    fn stars_go_and_what_is_wider_stays() {
        let size = Size::new(60, 40).unwrap();
        let plane = Plane::from_fn(size, |x, y| {
            let far = |cx: f64, cy: f64| (x as f64 - cx).hypot(y as f64 - cy);
            if far(10.0, 10.0) < 1.5 {
                900.0
            } else if far(40.0, 20.0) < 9.0 {
                50.0
            } else {
                1.0
            }
        });
        let open = &opened(&[plane], 2.0, 1)[0];
        assert_eq!(
            (open.row(10)[10], open.row(20)[40], open.row(35)[5]),
            (1.0, 50.0, 1.0)
        );
    }
}
