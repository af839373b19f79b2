//! The largest rectangle that all channels cover, for cutting off ragged edges once, after merging.

use crate::number::Convert;
use crate::space::{Rect, Size};

/// The largest upright rectangle of blocks that are all covered, as pixels of a picture of `size` in which a
/// block has `factor` pixels a side. What lies beyond the last whole block on the right and below belongs to
/// the last block. `None` when no block is covered.
pub fn covered_rect(covered: &[bool], across: usize, factor: usize, size: Size) -> Option<Rect> {
    if across == 0 {
        return None;
    }
    let down = covered.len() / across;
    let mut heights = vec![0usize; across + 1];
    let mut best = (0, 0, 0, 0, 0);
    for y in 0..down {
        for x in 0..across {
            heights[x] = if covered[y * across + x] {
                heights[x] + 1
            } else {
                0
            };
        }
        // The largest rectangle under the heights, with a stack of those that still grow.
        let mut open: Vec<(usize, usize)> = Vec::new();
        for (x, &height) in heights.iter().enumerate() {
            let mut start = x;
            while let Some(&(from, h)) = open.last().filter(|(_, h)| *h >= height) {
                open.pop();
                let area = h * (x - from);
                if area > best.0 {
                    best = (area, from, y + 1 - h, x - from, h);
                }
                start = from;
            }
            open.push((start, height));
        }
    }
    let (area, x, y, w, h) = best;
    if area == 0 {
        return None;
    }
    let end = |from: usize, n: usize, of: usize, all: usize| {
        if from + n == of {
            all
        } else {
            (from + n) * factor
        }
    };
    Some(Rect {
        x: (x * factor).whole(),
        y: (y * factor).whole(),
        width: end(x, w, across, size.width()) - x * factor,
        height: end(y, h, down, size.height()) - y * factor,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::all(&["####", "####", "####"], Some((0, 0, 9, 7)))]
    #[case::ragged(&["..##", ".###", "####"], Some((4, 0, 5, 7)))]
    #[case::none(&["....", "....", "...."], None)]
    #[case::hole(&["####", "#.##", "####"], Some((4, 0, 5, 7)))]
    fn the_largest_rectangle_is_found(
        #[case] rows: &[&str],
        #[case] wanted: Option<(i64, i64, usize, usize)>,
    ) {
        let covered: Vec<bool> = rows
            .iter()
            .flat_map(|r| r.chars().map(|c| c == '#'))
            .collect();
        let got = covered_rect(&covered, 4, 2, Size::new(9, 7).unwrap());
        assert_eq!(got.map(|r| (r.x, r.y, r.width, r.height)), wanted);
    }

    #[test]
    fn no_rectangle_is_missed() {
        // Against all rectangles of a small random map.
        let (w, h) = (9, 7);
        for seed in 0..40u64 {
            let map: Vec<bool> = (0..w * h)
                .map(|i| {
                    (seed
                        .wrapping_mul(0x9e37_79b9)
                        .wrapping_add(i as u64 * 0x85eb_ca77)
                        >> 7)
                        % 4
                        != 0
                })
                .collect();
            let mut most = 0;
            for y0 in 0..h {
                for x0 in 0..w {
                    for y1 in y0 + 1..=h {
                        for x1 in x0 + 1..=w {
                            let full = (y0..y1).all(|y| (x0..x1).all(|x| map[y * w + x]));
                            if full {
                                most = most.max((y1 - y0) * (x1 - x0));
                            }
                        }
                    }
                }
            }
            let got = covered_rect(&map, w, 1, Size::new(w, h).unwrap());
            assert_eq!(got.map_or(0, Rect::area), most, "{seed}");
        }
    }
}
