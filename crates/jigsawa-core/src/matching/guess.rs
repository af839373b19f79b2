//! Guesses of the map, and the shifts that the stars vote for under them.
//!
//! A header's WCS, a user's hint or a telescope that has swung over the pier tell turn and scale better
//! than where exactly the frame lies. Every pair of a reference star and a frame star then names a
//! shift; true pairs all name the same one (the classical vote of Hough 1962 in two dimensions). With
//! turn and scale known three stars can prove a place, where asterisms need six.

use crate::number::Convert;
use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::placement::{Map, Registration};
use crate::space::{FramePx, Point, ReferencePx, Size};

use super::Spot;
use super::consensus::Proposal;

/// Brightest stars of each frame that vote.
const VOTERS: usize = 250;

/// Side of a voting cell, in pixels of the coarser grid; cells overlap by half.
const CELL_PX: f64 = 6.0;

/// Shifts with most votes that are judged.
const MOST_SHIFTS: usize = 20;

/// Shift, turn, scale and mirror in words that people use: around the frames' centres.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Guess {
    /// Where the reference's centre lies in the frame, from the frame's centre, in frame pixels.
    pub shift: [f64; 2],
    /// Turn from the reference to the frame, +x towards +y, in degrees.
    pub turn_deg: f64,
    /// Frame pixels for one reference pixel.
    pub scale: f64,
    /// Is the frame a mirror image? Then x is flipped before the turn.
    pub mirrored: bool,
}

impl Default for Guess {
    fn default() -> Self {
        Self {
            shift: [0.0; 2],
            turn_deg: 0.0,
            scale: 1.0,
            mirrored: false,
        }
    }
}

impl Guess {
    /// The map of the guess. `None` when its numbers make none.
    pub fn map(&self, reference: Size, frame: Size) -> Option<Registration> {
        let (s, c) = self.turn_deg.to_radians().sin_cos();
        let (s, c) = (s * self.scale, c * self.scale);
        let m = if self.mirrored { -1.0 } else { 1.0 };
        let (a, b, d, e) = (c * m, -s, s * m, c);
        let from: Point<ReferencePx> = reference.centre();
        let to: Point<FramePx> = frame.centre();
        let at = |p: f64, q: f64| p * from.x + q * from.y;
        Map::from_rows([
            [a, b, to.x + self.shift[0] - at(a, b)],
            [d, e, to.y + self.shift[1] - at(d, e)],
            [0.0, 0.0, 1.0],
        ])
    }

    /// The guess that a map is, near the reference's centre.
    pub fn of(map: &Registration, reference: Size, frame: Size) -> Self {
        let seen = map.describe(reference.centre());
        let there = map.apply(reference.centre());
        let middle: Point<FramePx> = frame.centre();
        Self {
            shift: [there.x - middle.x, there.y - middle.y],
            turn_deg: seen.rotation_deg,
            scale: seen.scale,
            mirrored: seen.mirrored,
        }
    }
}

/// The guess itself, and the guess with the shifts that most stars vote for.
pub(super) fn proposals(
    guess: &Registration,
    reference: &[Spot<ReferencePx>],
    frame: &[Spot<FramePx>],
    reference_size: Size,
) -> Vec<Proposal> {
    let mut all = vec![Proposal {
        map: guess.clone(),
        spent: 0.0,
    }];
    let scale = guess.area_ratio(reference_size.centre()).sqrt();
    let half = 0.5 * CELL_PX * scale.max(1.0);
    let mut votes: HashMap<(i32, i32), (u32, f64, f64)> = HashMap::new();
    for r in reference.iter().take(VOTERS) {
        let at = guess.apply(r.at);
        for f in frame.iter().take(VOTERS) {
            let (dx, dy) = (f.at.x - at.x, f.at.y - at.y);
            let (i, j) = ((dx / half).floor().i32(), (dy / half).floor().i32());
            // Four cells of twice the step hold the shift.
            for cell in [(i, j), (i - 1, j), (i, j - 1), (i - 1, j - 1)] {
                let v = votes.entry(cell).or_insert((0, 0.0, 0.0));
                *v = (v.0 + 1, v.1 + dx, v.2 + dy);
            }
        }
    }
    let mut best: Vec<(u32, (i32, i32), f64, f64)> = votes
        .into_iter()
        .map(|(cell, (n, x, y))| (n, cell, x / f64::from(n), y / f64::from(n)))
        .collect();
    best.sort_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
    let shifted = |dx: f64, dy: f64| guess.then(&Map::<FramePx, FramePx>::shift(dx, dy));
    all.extend(
        best.into_iter()
            .take(MOST_SHIFTS)
            .filter_map(|(_, _, dx, dy)| {
                Some(Proposal {
                    map: shifted(dx, dy)?,
                    spent: 1.0,
                })
            }),
    );
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_guess_is_read_back_from_its_map() {
        let (reference, frame) = (Size::new(640, 480).unwrap(), Size::new(300, 200).unwrap());
        let guess = Guess {
            shift: [12.5, -3.0],
            turn_deg: 170.0,
            scale: 0.5,
            mirrored: true,
        };
        let map = guess.map(reference, frame).unwrap();
        let back = Guess::of(&map, reference, frame);
        assert!((back.turn_deg - 170.0).abs() < 1e-9 && back.mirrored);
        assert!((back.scale - 0.5).abs() < 1e-12);
        assert!((back.shift[0] - 12.5).abs() < 1e-9 && (back.shift[1] + 3.0).abs() < 1e-9);
        let none = Guess {
            scale: 0.0,
            ..guess
        };
        assert!(none.map(reference, frame).is_none());
    }
}
