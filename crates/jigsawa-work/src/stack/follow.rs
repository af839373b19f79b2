//! A comet or an asteroid held still: frames are merged on what moves among the stars, and the stars are rejected.
//!
//! Its place is shown in two frames or more; in between, and beyond the first and the last, it goes straight on at its pace.

use std::str::FromStr;

use jigsawa_core::layout::Layout;
use jigsawa_core::placement::{Map, Placement};
use jigsawa_core::space::{CanvasPx, FramePx, Point};

use crate::frames::Frame;
use crate::normalize::KnownFrames;
use crate::trouble::Trouble;

/// `--follow FRAME:x,y`: where it is in a frame, in pixels from 1.
#[derive(Debug, Clone, PartialEq)]
pub struct FollowArg {
    frame: String,
    at: [f64; 2],
}

impl FromStr for FollowArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || "write it as FRAME:x,y, as in night_001.fits:812,455".to_owned();
        let (frame, at) = text.rsplit_once(':').ok_or_else(wrong)?;
        let (x, y) = at.split_once(',').ok_or_else(wrong)?;
        let number = |t: &str| t.trim().parse().ok().filter(|v: &f64| v.is_finite());
        match (number(x), number(y)) {
            (Some(x), Some(y)) if !frame.trim().is_empty() => Ok(Self {
                frame: frame.trim().to_owned(),
                at: [x, y],
            }),
            _ => Err(wrong()),
        }
    }
}

/// A time in seconds and where it is on the canvas then.
type Seen = (f64, Point<CanvasPx>);

/// Places the frames on what moves. It stays where it is in the layout's reference, or else where it was shown first.
pub fn follow(
    known: &mut KnownFrames<'_>,
    layout: &Layout,
    shown: &[FollowArg],
) -> Result<(), Trouble> {
    if shown.is_empty() {
        return Ok(());
    }
    let frames = known.frames;
    let mut seen: Vec<Seen> = Vec::new();
    for FollowArg { frame, at } in shown {
        let Some(i) = frames.iter().position(|f| f.is_called(frame)) else {
            return Err(Trouble::NoSuchFrame {
                option: "--follow",
                name: frame.clone(),
                frames: frames.iter().map(Frame::name).collect(),
            });
        };
        let (Some(placement), Some(time)) = (&known.placements[i], middle_s(&frames[i])) else {
            return Err(Trouble::Follow {
                file: frames[i].name(),
                placed: known.placements[i].is_some(),
            });
        };
        let there = Point::<FramePx>::new(at[0] - 1.0, at[1] - 1.0);
        seen.push((time, placement.invert().apply(there)));
    }
    seen.sort_by(|a, b| a.0.total_cmp(&b.0));
    seen.dedup_by(|a, b| a.0 == b.0);
    if seen.len() < 2 {
        return Err(Trouble::FollowOnce);
    }
    let reference = layout
        .reference_index()
        .and_then(|i| middle_s(frames.get(i)?));
    let still = place(&seen, reference.unwrap_or(seen[0].0));
    for (i, f) in frames.iter().enumerate() {
        let Some(placement) = &known.placements[i] else {
            continue;
        };
        let time = middle_s(f).ok_or_else(|| Trouble::Follow {
            file: f.name(),
            placed: true,
        })?;
        let there = place(&seen, time);
        let moved: Map<CanvasPx, CanvasPx> = Map::shift(there.x - still.x, there.y - still.y);
        let moved: Option<Placement> = moved.then(placement);
        known.placements[i] = moved;
    }
    Ok(())
}

/// The middle of a frame's exposure.
fn middle_s(f: &Frame) -> Option<f64> {
    Some(f.facts.start_s? + 0.5 * f.facts.exposure_s.unwrap_or(0.0))
}

/// Where it is at a time: straight between the two times around it, or on from the nearest two.
fn place(seen: &[Seen], time: f64) -> Point<CanvasPx> {
    let after = seen
        .partition_point(|s| s.0 <= time)
        .clamp(1, seen.len() - 1);
    let ((t0, a), (t1, b)) = (seen[after - 1], seen[after]);
    let part = (time - t0) / (t1 - t0);
    Point::new(a.x + part * (b.x - a.x), a.y + part * (b.y - a.y))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_goes_straight_between_where_it_is_shown_and_beyond() {
        let seen = [
            (0.0, Point::new(10.0, 5.0)),
            (10.0, Point::new(20.0, 5.0)),
            (30.0, Point::new(20.0, 25.0)),
        ];
        let at = |t| {
            let p = place(&seen, t);
            (p.x, p.y)
        };
        assert_eq!(at(5.0), (15.0, 5.0));
        assert_eq!(at(20.0), (20.0, 15.0));
        assert_eq!((at(-10.0), at(40.0)), ((0.0, 5.0), (20.0, 35.0)));
    }

    #[test]
    fn an_argument_is_a_frame_and_a_place() {
        let arg: FollowArg = "n:1/a.fits: 12.5,7".parse().unwrap();
        assert_eq!((arg.frame.as_str(), arg.at), ("n:1/a.fits", [12.5, 7.0]));
        assert!("a.fits:12".parse::<FollowArg>().is_err());
        assert!(":1,2".parse::<FollowArg>().is_err());
    }
}
