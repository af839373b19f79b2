//! A frame whose stars are made as wide as those of a softer one.
//!
//! Where filters were taken in different seeing, a star is wider in one than in another, and has a coloured rim.
//! Around stars, and only there, the sharper frame is smoothed by the Gaussian that makes up the difference of both
//! widths; a star's light stays. Between stars every pixel is as it was.

use crate::doors::{DoorError, FrameSource};
use crate::finish::gaussian;
use crate::space::{Rect, Size};
use crate::stars::Catalogue;

/// A star is softened as far as it stands above this part of the noise, and within a rim outside of that the change
/// fades.
const REACH_SIGMA: f64 = 0.5;
const RIM: f64 = 0.35;

/// Stars are softened to so many widths at the most.
const MOST_WIDTHS: f64 = 12.0;

/// Widths that differ by less than this part are left.
const LEAST: f64 = 0.02;

/// A frame with softened stars.
#[derive(Debug)]
pub struct Softened<S> {
    source: S,
    /// Half of the Gaussian, its middle first.
    kernel: Vec<f32>,
    /// Middle and radius of each star, from top to bottom.
    discs: Vec<[f64; 3]>,
    most: f64,
}

impl<S: FrameSource> Softened<S> {
    /// A frame whose stars, those of `stars`, shall be `fwhm_px` wide. `None` where they are already.
    pub fn new(source: S, stars: &Catalogue, fwhm_px: f64) -> Option<Self> {
        if fwhm_px.is_nan() || fwhm_px <= stars.fwhm_px * (1.0 + LEAST) {
            return None;
        }
        let sigma = ((fwhm_px * fwhm_px - stars.fwhm_px * stars.fwhm_px)
            / (8.0 * std::f64::consts::LN_2))
            .sqrt();
        let length = (3.5 * sigma).ceil().max(1.0) as usize;
        let bell = |i: usize| (-0.5 * (i as f64 / sigma).powi(2)).exp();
        let sum = bell(0) + 2.0 * (1..=length).map(bell).sum::<f64>();
        let mut discs: Vec<[f64; 3]> = stars
            .stars
            .iter()
            .map(|s| {
                let reach = stars.reach_px(s, REACH_SIGMA, MOST_WIDTHS) + 2.0 * sigma;
                [s.at.x, s.at.y, (1.0 + RIM) * reach.max(1.5 * fwhm_px)]
            })
            .collect();
        discs.sort_by(|a, b| a[1].total_cmp(&b[1]));
        Some(Self {
            source,
            kernel: (0..=length).map(|i| (bell(i) / sum) as f32).collect(),
            most: discs.iter().map(|d| d[2]).fold(0.0, f64::max),
            discs,
        })
    }

    /// Stars that reach into a window.
    fn near(&self, rect: Rect) -> impl Iterator<Item = &[f64; 3]> {
        let first = self
            .discs
            .partition_point(|d| d[1] < rect.y as f64 - self.most);
        let (left, right) = (rect.x as f64, rect.right() as f64);
        self.discs[first..]
            .iter()
            .take_while(move |d| d[1] <= rect.bottom() as f64 + self.most)
            .filter(move |d| d[0] + d[2] >= left && d[0] - d[2] <= right)
    }
}

impl<S: FrameSource> FrameSource for Softened<S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.source.read(rect, out)?;
        if self.near(rect).next().is_none() {
            return Ok(());
        }
        let reach = self.kernel.len() - 1;
        let wide = Rect {
            x: rect.x - reach as i64,
            y: rect.y - reach as i64,
            width: rect.width + 2 * reach,
            height: rect.height + 2 * reach,
        }
        .intersect(self.size().rect());
        let mut around = vec![0.0; wide.area()];
        self.source.read(wide, &mut around)?;
        let (mut soft, mut spare) = (around.clone(), around.clone());
        gaussian(&around, &mut soft, &mut spare, wide.width, &self.kernel);
        let mut marks = vec![0.0f32; rect.area()];
        for [cx, cy, radius] in self.near(rect) {
            let low = |v: f64, least: i64| ((v - radius).ceil() as i64).max(least);
            let high = |v: f64, most: i64| ((v + radius).floor() as i64 + 1).min(most);
            for y in low(*cy, rect.y)..high(*cy, rect.bottom()) {
                for x in low(*cx, rect.x)..high(*cx, rect.right()) {
                    let off = (x as f64 - cx).hypot(y as f64 - cy) / radius;
                    let mark = ((1.0 - off) * (1.0 + RIM) / RIM).clamp(0.0, 1.0) as f32;
                    let i = (y - rect.y) as usize * rect.width + (x - rect.x) as usize;
                    marks[i] = marks[i].max(mark);
                }
            }
        }
        let (dx, dy) = ((rect.x - wide.x) as usize, (rect.y - wide.y) as usize);
        for (i, (v, mark)) in out
            .iter_mut()
            .zip(&marks)
            .enumerate()
            .filter(|(_, (_, m))| **m > 0.0)
        {
            let (x, y) = (i % rect.width, i / rect.width);
            let there = soft[(y + dy) * wide.width + x + dx];
            // Beside a missing pixel nothing can be smoothed.
            if there.is_finite() {
                *v += mark * (there - *v);
            }
        }
        Ok(())
    }
}
