use super::*;
use crate::plane::Plane;
use rstest::rstest;

fn frame(pattern: Pattern, colour: impl Fn(usize, usize, Colour) -> f32) -> Plane {
    Plane::from_fn(Size::new(31, 22).unwrap(), |x, y| {
        colour(x, y, pattern.at(x.whole(), y.whole()))
    })
}

fn read(source: Plane, pattern: Pattern, colour: Colour, rect: Rect) -> Vec<f32> {
    let mut out = vec![0.0; rect.area()];
    let one = Interpolated {
        source,
        pattern,
        colour,
    };
    one.read(rect, &mut out).unwrap();
    out
}

#[rstest]
#[case("RGGB")]
#[case("GRBG")]
#[case("BGGR")]
#[case("GBRG")]
fn a_slope_of_any_colour_comes_out_as_it_is(#[case] letters: &str) {
    let pattern = Pattern::from_letters(letters).unwrap();
    let slope = |x: usize, y: usize, c: Colour| {
        [40.0, 100.0, 70.0][c] + 0.5 * x.single() - 0.25 * y.single()
    };
    let plane = frame(pattern, slope);
    for colour in 0..3 {
        let rect = Rect {
            x: 4,
            y: 3,
            width: 20,
            height: 15,
        };
        for (i, v) in read(plane.clone(), pattern, colour, rect)
            .iter()
            .enumerate()
        {
            let want = slope(4 + i % 20, 3 + i / 20, colour);
            assert!((v - want).abs() < 1e-3, "{colour} {i}: {v} {want}");
        }
    }
}

#[test]
fn any_window_has_the_same_bits_and_a_missing_pixel_stays_one() {
    let pattern = Pattern::from_letters("RGGB").unwrap();
    let mut plane = frame(pattern, |x, y, c| {
        ((x * 37 + y * 11 + c * 50) % 97).single()
    });
    plane.data_mut()[12 * 31 + 9] = f32::NAN;
    let whole = read(plane.clone(), pattern, 0, plane.size().rect());
    assert!(whole.iter().all(|v| v.is_finite()));
    for (x, y, width, height) in [(0, 0, 3, 2), (8, 11, 4, 4), (29, 19, 2, 3), (5, 5, 1, 1)] {
        let rect = Rect {
            x,
            y,
            width,
            height,
        };
        for (i, v) in read(plane.clone(), pattern, 0, rect).iter().enumerate() {
            let at = (y.index() + i / width) * 31 + x.index() + i % width;
            assert_eq!(v.to_bits(), whole[at].to_bits(), "{rect:?} {i}");
        }
    }
}
