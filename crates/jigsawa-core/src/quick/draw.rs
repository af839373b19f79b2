//! Circles and numbers on a picture.

use super::Picture;
use crate::number::Convert;

/// The figures 0 to 9, three columns and five rows each: bits of a row from left to right.
const FIGURES: [[u8; 5]; 10] = [
    [7, 5, 5, 5, 7],
    [2, 6, 2, 2, 7],
    [7, 1, 7, 4, 7],
    [7, 1, 3, 1, 7],
    [5, 5, 7, 1, 1],
    [7, 4, 7, 1, 7],
    [7, 4, 7, 5, 7],
    [7, 1, 2, 2, 2],
    [7, 5, 7, 5, 7],
    [7, 5, 7, 1, 7],
];

/// Draws a circle of a pixel's width.
pub fn circle(picture: &mut Picture, (cx, cy): (f64, f64), radius: f64, colour: [u8; 3]) {
    // A step a pixel along the rim, and a little closer, leaves no gap.
    let steps = (8.0 * radius).ceil().clamp(8.0, 20_000.0);
    for i in 0..steps.index() {
        let (s, c) = (i.real() / steps * std::f64::consts::TAU).sin_cos();
        let (x, y) = (cx + radius * c, cy + radius * s);
        picture.set(x.round().whole(), y.round().whole(), colour);
    }
}

/// Writes a number with its upper left corner at (x, y), each point of a figure `scale` pixels wide.
pub fn number(picture: &mut Picture, n: usize, (x, y): (i64, i64), scale: i64, colour: [u8; 3]) {
    for (k, letter) in n.to_string().bytes().enumerate() {
        let figure = FIGURES[usize::from(letter - b'0')];
        let left = x + 4 * scale * k.whole();
        for (row, bits) in figure.iter().enumerate() {
            for column in (0..3).filter(|c| bits & (4 >> c) != 0) {
                for dy in 0..scale {
                    for dx in 0..scale {
                        let px = left + scale * column + dx;
                        picture.set(px, y + scale * row.whole() + dy, colour);
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHITE: [u8; 3] = [255; 3];

    fn lit(p: &Picture) -> usize {
        p.rgb().chunks_exact(3).filter(|c| c == &WHITE).count()
    }

    #[test]
    fn a_circle_is_closed_and_keeps_its_distance() {
        let mut p = Picture::filled(60, 60, [0; 3]);
        circle(&mut p, (30.0, 28.0), 15.0, WHITE);
        for y in 0..60usize {
            for x in 0..60usize {
                if p.get(x, y) == Some(WHITE) {
                    let d = (x.real() - 30.0).hypot(y.real() - 28.0);
                    assert!((d - 15.0).abs() < 0.75);
                }
            }
        }
        assert!(lit(&p) > 80);
        // Outside of the picture nothing happens.
        circle(&mut p, (-50.0, 90.0), 10.0, WHITE);
    }

    #[test]
    fn a_number_has_the_points_of_its_figures() {
        let mut p = Picture::filled(40, 20, [0; 3]);
        number(&mut p, 17, (2, 2), 2, WHITE);
        assert_eq!(lit(&p), 4 * (8 + 7));
        assert_eq!(p.get(2 + 8, 2), Some(WHITE));
    }
}
