//! Discs on a frame, around stars, within which something is done to its pixels.

use crate::number::Convert;
use crate::space::Rect;

/// Within a rim of this part of its radius outside of a disc what is done fades.
const RIM: f64 = 0.35;

/// Discs on a frame.
#[derive(Debug, Clone)]
pub(crate) struct Discs {
    /// Middle and radius with the rim, from top to bottom.
    all: Vec<[f64; 3]>,
    most: f64,
}

impl Discs {
    /// Of middles and radii.
    pub(crate) fn new(mut all: Vec<[f64; 3]>) -> Self {
        for d in &mut all {
            d[2] *= 1.0 + RIM;
        }
        all.sort_by(|a, b| a[1].total_cmp(&b[1]));
        Self {
            most: all.iter().map(|d| d[2]).fold(0.0, f64::max),
            all,
        }
    }

    /// Does any reach into a window?
    pub(crate) fn touch(&self, rect: Rect) -> bool {
        self.near(rect).next().is_some()
    }

    /// Those that reach into a window: middle, and radius with the rim.
    fn near(&self, rect: Rect) -> impl Iterator<Item = &[f64; 3]> {
        let first = self
            .all
            .partition_point(|d| d[1] < rect.y.real() - self.most);
        let (left, right) = (rect.x.real(), rect.right().real());
        self.all[first..]
            .iter()
            .take_while(move |d| d[1] <= rect.bottom().real() + self.most)
            .filter(move |d| d[0] + d[2] >= left && d[0] - d[2] <= right)
    }

    /// How much each pixel of a window takes of what is done, 0 to 1.
    pub(crate) fn marks(&self, rect: Rect) -> Vec<f32> {
        let mut marks = vec![0.0f32; rect.area()];
        self.each(rect, |i, _, mark| marks[i] = marks[i].max(mark));
        marks
    }

    /// Each disc's pixels in a window: number of the pixel, its place from the disc's middle, and its mark.
    pub(crate) fn each(&self, rect: Rect, mut of: impl FnMut(usize, ([f64; 2], [f64; 2]), f32)) {
        for [cx, cy, radius] in self.near(rect) {
            let low = |v: f64, least: i64| (v - radius).ceil().whole().max(least);
            let high = |v: f64, most: i64| ((v + radius).floor().whole() + 1).min(most);
            for y in low(*cy, rect.y)..high(*cy, rect.bottom()) {
                for x in low(*cx, rect.x)..high(*cx, rect.right()) {
                    let (dx, dy) = (x.real() - cx, y.real() - cy);
                    let mark = ((1.0 - dx.hypot(dy) / radius) * (1.0 + RIM) / RIM).clamp(0.0, 1.0);
                    let i = (y - rect.y).index() * rect.width + (x - rect.x).index();
                    of(i, ([*cx, *cy], [dx, dy]), mark.single());
                }
            }
        }
    }
}
