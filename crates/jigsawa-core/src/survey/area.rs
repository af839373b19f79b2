//! Which part of a frame is measured.

use crate::number::Convert;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::space::{Rect, Size};

/// A part of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub enum Area {
    /// All of it.
    #[default]
    Whole,
    /// The middle third of each side: what the optics do best.
    Centre,
    /// The middle half of the area: without the corners.
    Half,
    /// A rectangle of pixels, cut to the frame.
    Box(BoxPx),
}

/// A rectangle of pixels as its user gives it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct BoxPx {
    /// Its first column.
    pub x: u32,
    /// Its first row.
    pub y: u32,
    /// Columns.
    pub width: u32,
    /// Rows.
    pub height: u32,
}

/// Smaller areas have no room for stars and a sky around them.
pub const LEAST_SIDE: usize = 64;

impl Area {
    /// The pixels of a frame of this size; `None` when fewer than [`LEAST_SIDE`] on a side are left of
    /// an area that is not the whole.
    pub fn of(self, size: Size) -> Option<Rect> {
        let (w, h) = (size.width(), size.height());
        let middle = |part: f64| {
            let side = |n: usize| (n.real() * part).round().index().clamp(1, n);
            let (width, height) = (side(w), side(h));
            Rect {
                x: ((w - width) / 2).whole(),
                y: ((h - height) / 2).whole(),
                width,
                height,
            }
        };
        let rect = match self {
            Self::Whole => return Some(size.rect()),
            Self::Centre => middle(1.0 / 3.0),
            Self::Half => middle(std::f64::consts::FRAC_1_SQRT_2),
            Self::Box(b) => size.rect().intersect(Rect {
                x: i64::from(b.x),
                y: i64::from(b.y),
                width: b.width as usize,
                height: b.height as usize,
            }),
        };
        (rect.width >= LEAST_SIDE && rect.height >= LEAST_SIDE).then_some(rect)
    }
}

impl FromStr for Area {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text.trim() {
            "whole" => return Ok(Self::Whole),
            "centre" | "center" => return Ok(Self::Centre),
            "half" => return Ok(Self::Half),
            _ => {}
        }
        let sides: Result<Vec<u32>, _> = text.split(',').map(|n| n.trim().parse()).collect();
        match sides.as_deref() {
            Ok([x, y, width, height]) if *width > 0 && *height > 0 => Ok(Self::Box(BoxPx {
                x: *x,
                y: *y,
                width: *width,
                height: *height,
            })),
            _ => Err("write it as centre, half, or X,Y,W,H in pixels, as in 1000,800,600,600"),
        }
    }
}

impl fmt::Display for Area {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Whole => f.write_str("whole"),
            Self::Centre => f.write_str("centre"),
            Self::Half => f.write_str("half"),
            Self::Box(b) => write!(f, "{},{},{},{}", b.x, b.y, b.width, b.height),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("centre", Some((300, 200, 300, 200)))]
    #[case("half", Some((132, 88, 636, 424)))]
    #[case("850,0,300,300", None)]
    #[case("800,100,300,300", Some((800, 100, 100, 300)))]
    fn areas_lie_inside_the_frame(
        #[case] text: &str,
        #[case] want: Option<(i64, i64, usize, usize)>,
    ) {
        let area: Area = text.parse().unwrap();
        let got = area.of(Size::new(900, 600).unwrap());
        assert_eq!(got.map(|r| (r.x, r.y, r.width, r.height)), want);
    }

    #[test]
    fn nonsense_is_refused_and_names_come_back() {
        for text in ["middle", "1,2,3", "1,2,0,4", "-1,2,3,4"] {
            assert!(text.parse::<Area>().is_err(), "{text}");
        }
        for text in ["whole", "centre", "half", "1,2,3,4"] {
            assert_eq!(text.parse::<Area>().unwrap().to_string(), text);
        }
    }
}
