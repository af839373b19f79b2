//! The part of a raw image that saw the sky, and what its pixels have without charge, where cards tell both.
//!
//! `TRIMSEC` (or `DATASEC` beside a `BIASSEC`) names the pixels that saw the sky, `BIASSEC` those that were read without being there: the
//! overscan. Of a frame with such cards only the sky's part is ever seen outside of this folder, less the overscan's
//! level: row by row where it stands beside them, smoothed, since amplifiers drift while a chip is read; else one for all.
//! Cards that fit no part of the image mean nothing.

use jigsawa_core::number::Convert;
use jigsawa_core::space::{Rect, Size};

use super::card::{Card, Header, Value};

/// Rows on both sides that a row's level is averaged with: a drift is slow, and a row's own few pixels are noisy.
const SMOOTH: usize = 24;

/// Part of a row's overscan that is left out at both of its ends, sorted: cosmic rays, and charge that was left behind.
const ENDS: usize = 8;

/// What is read of a raw image.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Trim {
    /// The sky's part, in stored pixels.
    pub(super) sky: Rect,
    /// The overscan, where it is to be taken off.
    pub(super) overscan: Option<Rect>,
    /// The level of each row of the sky's part; none where nothing is taken off.
    levels: Vec<f32>,
}

impl Trim {
    /// What a header says; `None` where all of the image is the sky's.
    pub(super) fn of(h: &Header, stored: Size) -> Option<Self> {
        let part = |name: &str| section(&h.text(name)?, stored);
        let overscan = part("BIASSEC");
        let data = || part("DATASEC").filter(|_| overscan.is_some());
        let sky = part("TRIMSEC").or_else(data)?;
        if sky == stored.rect() {
            return None;
        }
        // A program that has taken it off says so.
        let is_off = h.get("OVERSCAN").is_some();
        Some(Self {
            sky,
            overscan: overscan.filter(|o| o.intersect(sky).is_empty() && !is_off),
            levels: Vec::new(),
        })
    }

    /// Takes in the overscan's pixels.
    pub(super) fn level(&mut self, overscan: Rect, pixels: &[f32]) {
        let rows = self.sky.y..self.sky.bottom();
        let beside = overscan.y <= rows.start && overscan.bottom() >= rows.end;
        self.levels = if beside {
            let of_row = |y: i64| {
                let from = (y - overscan.y).index() * overscan.width;
                middle(&pixels[from..from + overscan.width])
            };
            smoothed(&rows.map(of_row).collect::<Vec<f32>>())
        } else {
            vec![middle(pixels); self.sky.height]
        };
    }

    /// A window of the sky's part, in stored pixels.
    pub(super) fn stored(&self, rect: Rect) -> Rect {
        Rect {
            x: rect.x + self.sky.x,
            y: rect.y + self.sky.y,
            ..rect
        }
    }

    /// Takes the overscan's level off a window of the sky's part.
    pub(super) fn lower(&self, rect: Rect, out: &mut [f32]) {
        if self.levels.is_empty() || rect.width == 0 {
            return;
        }
        let levels = &self.levels[rect.y.index()..];
        for (row, level) in out.chunks_exact_mut(rect.width).zip(levels) {
            for v in row {
                *v -= level;
            }
        }
    }

    /// What is taken off in the middle.
    pub(super) fn lowered(&self) -> f32 {
        let middle = self.levels.get(self.levels.len() / 2);
        middle.copied().unwrap_or(0.0)
    }

    /// A header of the sky's part: its place on the sky moves along, and what was trimmed is not told again.
    pub(super) fn header(&self, h: Header) -> Header {
        const TOLD: [&str; 4] = ["TRIMSEC", "DATASEC", "BIASSEC", "CCDSEC"];
        let mut cards = h.cards;
        cards.retain(|c| !TOLD.contains(&c.name.as_str()));
        for (name, moved) in [("CRPIX1", self.sky.x), ("CRPIX2", self.sky.y)] {
            for card in cards.iter_mut().filter(|c| c.name == name) {
                if let Value::Number(at) = card.value {
                    let at = at - moved.real();
                    *card = Card {
                        name: name.to_owned(),
                        value: Value::Number(at),
                        record: format!("{name:<8}= {:>20}", format!("{at:?}")),
                    };
                }
            }
        }
        Header { cards }
    }
}

/// `[first:last,first:last]`, counted from 1, last included, either way round; `None` where it is no part of the image.
fn section(text: &str, stored: Size) -> Option<Rect> {
    let inner = text.trim().strip_prefix('[')?.strip_suffix(']')?;
    let (x, y) = inner.split_once(',')?;
    let range = |text: &str, side: usize| -> Option<(i64, usize)> {
        let (a, b) = text.split_once(':')?;
        let [a, b] = [a, b].map(|t| t.trim().parse::<usize>().ok());
        let (first, last) = (a?.min(b?), a?.max(b?));
        (first >= 1 && last <= side).then(|| ((first - 1).whole(), last - first + 1))
    };
    let (x, width) = range(x, stored.width())?;
    let (y, height) = range(y, stored.height())?;
    Some(Rect {
        x,
        y,
        width,
        height,
    })
}

/// The mean of values without the outer ones; 0 for none.
fn middle(values: &[f32]) -> f32 {
    let mut values: Vec<f32> = values.iter().copied().filter(|v| v.is_finite()).collect();
    values.sort_unstable_by(f32::total_cmp);
    let out = values.len() / ENDS;
    let inner = &values[out..values.len() - out];
    if inner.is_empty() {
        return 0.0;
    }
    let sum: f64 = inner.iter().map(|v| f64::from(*v)).sum();
    (sum / inner.len().real()).single()
}

/// Running means, shorter at both ends.
fn smoothed(levels: &[f32]) -> Vec<f32> {
    let mut sums = vec![0.0];
    for v in levels {
        sums.push(sums[sums.len() - 1] + f64::from(*v));
    }
    (0..levels.len())
        .map(|i| {
            let reach = SMOOTH.min(i).min(levels.len() - 1 - i);
            let (from, to) = (i - reach, i + reach + 1);
            ((sums[to] - sums[from]) / (to - from).real()).single()
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fits::header;
    use rstest::rstest;

    fn stored() -> Size {
        Size::new(120, 80).unwrap()
    }

    #[rstest]
    #[case("[21:120,1:80]", Some((20, 0, 100, 80)))]
    #[case("[120:21, 80:1]", Some((20, 0, 100, 80)))]
    #[case("[21:121,1:80]", None)]
    #[case("[0:20,1:80]", None)]
    #[case("21:120,1:80", None)]
    fn sections_are_read(#[case] text: &str, #[case] want: Option<(i64, i64, usize, usize)>) {
        let found = section(text, stored());
        assert_eq!(found.map(|r| (r.x, r.y, r.width, r.height)), want);
    }

    #[test]
    fn cards_that_tell_no_part_or_all_mean_nothing() {
        let of = |records: &[&str]| Trim::of(&header(records), stored());
        assert_eq!(
            of(&["TRIMSEC = '[1:120,1:80]'", "BIASSEC = '[1:4,1:80]'"]),
            None
        );
        assert_eq!(of(&["DATASEC = '[21:120,1:80]'"]), None);
        assert_eq!(of(&["TRIMSEC = '[21:500,1:80]'"]), None);
        let both = of(&["DATASEC = '[21:120,1:80]'", "BIASSEC = '[1:20,1:80]'"]).unwrap();
        assert_eq!(both.sky.x, 20);
        assert!(both.overscan.is_some());
        let off = of(&[
            "TRIMSEC = '[21:120,1:80]'",
            "BIASSEC = '[1:20,1:80]'",
            "OVERSCAN= '[1:20,1:80]'",
        ]);
        assert_eq!(off.unwrap().overscan, None);
    }

    #[test]
    fn a_drift_goes_and_a_ray_in_the_overscan_does_not_count() {
        let mut trim = Trim::of(
            &header(&["TRIMSEC = '[21:120,1:80]'", "BIASSEC = '[1:20,1:80]'"]),
            stored(),
        )
        .unwrap();
        let drift = |y: usize| 500.0 + 0.2 * y.single();
        let overscan = trim.overscan.unwrap();
        let pixels: Vec<f32> = (0..overscan.area())
            .map(|i| {
                let noise = ((i * 7919) % 13).single() - 6.0;
                let ray = if i == 333 { 9000.0 } else { 0.0 };
                drift(i / overscan.width) + noise + ray
            })
            .collect();
        trim.level(overscan, &pixels);
        let rect = Rect {
            x: 5,
            y: 30,
            width: 10,
            height: 20,
        };
        let mut out: Vec<f32> = (0..rect.area())
            .map(|i| 900.0 + drift(30 + i / 10))
            .collect();
        trim.lower(rect, &mut out);
        assert!(out.iter().all(|v| (v - 900.0).abs() < 1.0), "{out:?}");
        assert_eq!(trim.stored(rect).x, 25);
        let moved = trim.header(header(&["CRPIX1  = 60.5", "TRIMSEC = '[21:120,1:80]'"]));
        assert_eq!(moved.number("CRPIX1"), Some(40.5));
        assert_eq!(moved.get("TRIMSEC"), None);
    }
}
