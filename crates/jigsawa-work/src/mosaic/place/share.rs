//! How much of a frame lies on another.

use jigsawa_core::mosaic::border::Coverage;
use jigsawa_core::placement::Placement;
use jigsawa_core::space::{FramePx, Point, Size};

/// The part of a frame that lies on another.
pub fn share(a: &Placement, size_a: Size, b: &Placement, size_b: Size) -> f64 {
    let whole = |size: Size| Coverage::of_rect(size, size.rect());
    covered_share((a, size_a, &whole(size_a)), (b, &whole(size_b)))
}

/// The part of what a frame covers that lies on what another one does.
pub fn covered_share(
    (a, size, covers): (&Placement, Size, &Coverage),
    (b, other): (&Placement, &Coverage),
) -> f64 {
    const STEPS: usize = 24;
    let back = a.invert();
    let at = |k: usize, n: usize| (k as f64 + 0.5) / STEPS as f64 * n as f64 - 0.5;
    let (mut all, mut on) = (0usize, 0usize);
    for k in 0..STEPS * STEPS {
        let p = Point::<FramePx>::new(at(k % STEPS, size.width()), at(k / STEPS, size.height()));
        if covers.holds(p) {
            all += 1;
            on += usize::from(other.holds(b.apply(back.apply(p))));
        }
    }
    on as f64 / all.max(1) as f64
}
