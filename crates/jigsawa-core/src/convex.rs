//! Convex outlines cut by straight lines (Sutherland & Hodgman 1974, CACM 17, 32).

use crate::space::Point;

/// The part of an outline on the inner side of a line; `inside` is a point's distance from the line in any unit, not
/// negative on that side. Empty when nothing is left.
pub(crate) fn cut<S>(outline: &[Point<S>], inside: impl Fn(Point<S>) -> f64) -> Vec<Point<S>> {
    let mut out = Vec::with_capacity(outline.len() + 1);
    for (i, here) in outline.iter().enumerate() {
        let last = outline[(i + outline.len() - 1) % outline.len()];
        let (a, b) = (inside(last), inside(*here));
        if (a < 0.0) != (b < 0.0) {
            let t = a / (a - b);
            out.push(Point::new(
                last.x + t * (here.x - last.x),
                last.y + t * (here.y - last.y),
            ));
        }
        if b >= 0.0 {
            out.push(*here);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::CanvasPx;

    #[test]
    fn a_square_loses_a_corner_to_a_line_across_it() {
        let square: Vec<Point<CanvasPx>> = [(0.0, 0.0), (4.0, 0.0), (4.0, 4.0), (0.0, 4.0)]
            .map(|(x, y)| Point::new(x, y))
            .to_vec();
        let left = cut(&square, |p| 6.0 - p.x - p.y);
        let corners: Vec<(f64, f64)> = left.iter().map(|p| (p.x, p.y)).collect();
        let want = [(0.0, 0.0), (4.0, 0.0), (4.0, 2.0), (2.0, 4.0), (0.0, 4.0)];
        assert_eq!(corners, want);
        assert!(cut(&square, |_| -1.0).is_empty());
    }
}
