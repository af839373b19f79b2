//! What a user knows of a frame's place, where the stars alone do not tell it.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use super::Guess;
use crate::placement::{Map, Model, Pair, Registration};
use crate::space::{Point, Size};

/// Pairs of points that fix a map by themselves: two leave no way to see a slip of the hand.
pub const LEAST_HAND_PAIRS: usize = 3;

/// Turns around the one that is said which are tried: up to 2.4 degrees to both sides, in steps that move a
/// star by no more than a vote can span over most of a frame.
const TURN_STEPS: i32 = 8;
const TURN_STEP_DEG: f64 = 0.3;

/// Pairs by hand from which on the map may be sheared, too.
const PAIRS_FOR_AFFINE: usize = 5;

/// A hint for one frame, against the reference. What is not said is as usual: not turned, not mirrored, at
/// the scale that headers tell.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Hint {
    /// Turn from the reference to the frame, +x towards +y, in degrees.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rotate_deg: Option<f64>,
    /// Where the reference's centre lies in the frame, from the frame's centre, in frame pixels.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shift: Option<[f64; 2]>,
    /// Frame pixels for one reference pixel.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scale: Option<f64>,
    /// The frame is a mirror image.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub mirrored: bool,
    /// The same points in both: x, y of the frame, then x, y of the reference.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pairs: Vec<[f64; 4]>,
}

impl Hint {
    /// The map that the hint says, `usual_scale` being what headers tell. `None` when its numbers make
    /// none, as for pairs on one spot.
    pub fn map(&self, reference: Size, frame: Size, usual_scale: f64) -> Option<Registration> {
        if self.pairs.len() >= LEAST_HAND_PAIRS {
            return self.by_pairs();
        }
        Guess {
            shift: self.shift.unwrap_or_default(),
            turn_deg: self.rotate_deg.unwrap_or_default(),
            scale: self.scale.unwrap_or(usual_scale),
            mirrored: self.mirrored,
        }
        .map(reference, frame)
    }

    /// The map that the hint says first, then the same with the turn a little off to both sides: nobody
    /// reads a turn to better than a degree or two, and over a frame half a degree is many pixels.
    pub fn maps(&self, reference: Size, frame: Size, usual_scale: f64) -> Vec<Registration> {
        let exact = self.map(reference, frame, usual_scale);
        let steps = if self.pairs.is_empty() { TURN_STEPS } else { 0 };
        let turned = (1..=steps)
            .flat_map(|k| [f64::from(k), -f64::from(k)])
            .filter_map(|k| {
                let off = self.rotate_deg.unwrap_or_default() + k * TURN_STEP_DEG;
                let other = Self {
                    rotate_deg: Some(off),
                    ..self.clone()
                };
                other.map(reference, frame, usual_scale)
            });
        exact.into_iter().chain(turned).collect()
    }

    fn by_pairs(&self) -> Option<Registration> {
        let pairs: Vec<Pair<_, _>> = self
            .pairs
            .iter()
            .map(|[x, y, u, v]| Pair {
                from: Point::new(*u, *v),
                to: Point::new(*x, *y),
                weight: 1.0,
            })
            .collect();
        let model = if pairs.len() >= PAIRS_FOR_AFFINE {
            Model::Affine
        } else {
            Model::Similarity
        };
        Map::fit(model, &pairs, None)
    }

    /// Does it say all of the map, so that it can be used without any star?
    pub fn is_complete(&self) -> bool {
        self.shift.is_some() || self.pairs.len() >= LEAST_HAND_PAIRS
    }

    /// Root mean square and largest distance of the pairs from the map, in frame pixels; nothing
    /// without pairs.
    pub fn errors(&self, map: &Registration) -> (f64, f64) {
        let off =
            |[x, y, u, v]: &[f64; 4]| map.apply(Point::new(*u, *v)).distance(Point::new(*x, *y));
        let all: Vec<f64> = self.pairs.iter().map(off).collect();
        let mean = all.iter().map(|d| d * d).sum::<f64>() / all.len().max(1).real();
        (mean.sqrt(), all.iter().copied().fold(0.0, f64::max))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pairs_say_the_whole_map_and_show_a_slip() {
        let size = Size::new(600, 400).unwrap();
        let truth = Guess {
            shift: [12.0, -3.0],
            turn_deg: 178.0,
            ..Guess::default()
        };
        let map = truth.map(size, size).unwrap();
        let pair = |u: f64, v: f64| {
            let p = map.apply(Point::new(u, v));
            [p.x, p.y, u, v]
        };
        let mut hint = Hint {
            pairs: vec![pair(50.0, 60.0), pair(500.0, 100.0), pair(300.0, 350.0)],
            ..Hint::default()
        };
        assert!(hint.is_complete());
        let found = hint.map(size, size, 1.0).unwrap();
        assert!(
            found
                .apply(Point::new(1.0, 2.0))
                .distance(map.apply(Point::new(1.0, 2.0)))
                < 1e-9
        );
        assert!(hint.errors(&found).1 < 1e-9);
        hint.pairs[1][0] += 30.0;
        let found = hint.map(size, size, 1.0).unwrap();
        assert!(hint.errors(&found).1 > 5.0);
        let spot = Hint {
            pairs: vec![[1.0, 1.0, 2.0, 2.0]; 3],
            ..Hint::default()
        };
        assert!(spot.map(size, size, 1.0).is_none());
    }

    #[test]
    fn a_turn_is_taken_for_what_a_hand_can_tell() {
        let size = Size::new(600, 400).unwrap();
        let hint = Hint {
            rotate_deg: Some(90.0),
            ..Hint::default()
        };
        let turns: Vec<f64> = hint
            .maps(size, size, 1.0)
            .iter()
            .map(|m| m.describe(size.centre()).rotation_deg)
            .collect();
        assert!((turns[0] - 90.0).abs() < 1e-9);
        let (low, high) = turns
            .iter()
            .fold((f64::MAX, f64::MIN), |(a, b), t| (a.min(*t), b.max(*t)));
        assert!((low - 87.6).abs() < 1e-6 && (high - 92.4).abs() < 1e-6);
        // Points say the whole of it.
        let points = Hint {
            pairs: vec![
                [0.0, 0.0, 1.0, 1.0],
                [500.0, 0.0, 501.0, 1.0],
                [0.0, 300.0, 1.0, 301.0],
            ],
            ..Hint::default()
        };
        assert_eq!(points.maps(size, size, 1.0).len(), 1);
    }

    #[test]
    fn a_turn_alone_is_not_the_whole_map() {
        let size = Size::new(600, 400).unwrap();
        let hint = Hint {
            rotate_deg: Some(180.0),
            ..Hint::default()
        };
        assert!(!hint.is_complete());
        let seen = hint.map(size, size, 0.5).unwrap().describe(size.centre());
        assert!((seen.rotation_deg - 180.0).abs() < 1e-9 && (seen.scale - 0.5).abs() < 1e-12);
    }
}
