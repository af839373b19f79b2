//! How much of a frame lies on another.

use super::border::Coverage;
use crate::number::Convert;
use crate::placement::{Placement, Registration};
use crate::space::{FramePx, Point, ReferencePx, Size};

/// Points along a side at which it is asked.
const STEPS: usize = 24;

/// Points spread evenly over a frame.
fn points<S>(size: Size) -> impl Iterator<Item = Point<S>> {
    let at = |k: usize, n: usize| (k.real() + 0.5) / STEPS.real() * n.real() - 0.5;
    (0..STEPS * STEPS)
        .map(move |k| Point::new(at(k % STEPS, size.width()), at(k / STEPS, size.height())))
}

/// The part of a frame that lies on another, by where both lie on a canvas.
pub fn share(a: &Placement, size_a: Size, b: &Placement, size_b: Size) -> f64 {
    let whole = |size: Size| Coverage::of_rect(size, size.rect());
    covered_share((a, size_a, &whole(size_a)), (b, &whole(size_b)))
}

/// The part of what a frame covers that lies on what another one does.
pub fn covered_share(
    (a, size, covers): (&Placement, Size, &Coverage),
    (b, other): (&Placement, &Coverage),
) -> f64 {
    let back = a.invert();
    let (mut all, mut on) = (0usize, 0usize);
    for p in points::<FramePx>(size).filter(|p| covers.holds(*p)) {
        all += 1;
        on += usize::from(other.holds(b.apply(back.apply(p))));
    }
    on.real() / all.max(1).real()
}

/// The part of a reference that lies on a frame which is registered to it.
pub fn overlap(map: &Registration, reference: Size, frame: Size) -> f64 {
    let on = points::<ReferencePx>(reference).filter(|p| frame.holds(map.apply(*p)));
    on.count().real() / (STEPS * STEPS).real()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::Map;
    use crate::space::Rect;

    #[test]
    fn a_share_is_that_of_the_area() {
        let (large, small) = (Size::new(400, 300).unwrap(), Size::new(200, 300).unwrap());
        // The smaller one lies on the right half of the larger.
        let (a, b) = (Map::shift(0.0, 0.0), Map::shift(-200.0, 0.0));
        assert!((share(&a, large, &b, small) - 0.5).abs() < 1e-9);
        assert!((share(&b, small, &a, large) - 1.0).abs() < 1e-9);
        let apart = Map::shift(-600.0, 0.0);
        assert_eq!(share(&a, large, &apart, small), 0.0);
        // Of which the lower third is not covered.
        let part = Rect {
            height: 200,
            ..small.rect()
        };
        let covers = Coverage::of_rect(small, part);
        let whole = Coverage::of_rect(large, large.rect());
        assert!((covered_share((&a, large, &whole), (&b, &covers)) - 1.0 / 3.0).abs() < 0.01);
        assert!((covered_share((&b, small, &covers), (&a, &whole)) - 1.0).abs() < 1e-9);
    }

    #[test]
    fn an_overlap_follows_a_turned_frame() {
        let size = Size::new(300, 300).unwrap();
        // By half a turn around the upper left corner: nothing of it lies there, but for a shift back.
        let turned = |x: f64, y: f64| {
            Map::from_rows([[-1.0, 0.0, x], [0.0, -1.0, y], [0.0, 0.0, 1.0]]).unwrap()
        };
        assert_eq!(overlap(&turned(-1.0, -1.0), size, size), 0.0);
        assert!((overlap(&turned(299.0, 299.0), size, size) - 1.0).abs() < 1e-9);
        assert!((overlap(&turned(149.0, 299.0), size, size) - 0.5).abs() < 1e-9);
    }
}
