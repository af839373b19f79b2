//! A frame whose stars are made as wide as those of a softer one.
//!
//! Where filters were taken in different seeing, a star is wider in one than in another, and has a coloured rim.
//! Around stars, and only there, the sharper frame is smoothed by the Gaussian that makes up the difference of both
//! widths; a star's light stays. Between stars every pixel is as it was.

use super::discs::Discs;
use crate::doors::{DoorError, FrameSource};
use crate::finish::gaussian;
use crate::number::Convert;
use crate::space::{Rect, Size};
use crate::stars::Catalogue;

/// A star is softened as far as it stands above this part of the noise.
const REACH_SIGMA: f64 = 0.5;

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
    discs: Discs,
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
        let length = (3.5 * sigma).ceil().max(1.0).index();
        let bell = |i: usize| (-0.5 * (i.real() / sigma).powi(2)).exp();
        let sum = bell(0) + 2.0 * (1..=length).map(bell).sum::<f64>();
        let discs: Vec<[f64; 3]> = stars
            .stars
            .iter()
            .map(|s| {
                let reach = stars.reach_px(s, REACH_SIGMA, MOST_WIDTHS) + 2.0 * sigma;
                [s.at.x, s.at.y, reach.max(1.5 * fwhm_px)]
            })
            .collect();
        Some(Self {
            source,
            kernel: (0..=length).map(|i| (bell(i) / sum).single()).collect(),
            discs: Discs::new(discs),
        })
    }
}

impl<S: FrameSource> FrameSource for Softened<S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.source.read(rect, out)?;
        if !self.discs.touch(rect) {
            return Ok(());
        }
        let reach = self.kernel.len() - 1;
        let wide = Rect {
            x: rect.x - reach.whole(),
            y: rect.y - reach.whole(),
            width: rect.width + 2 * reach,
            height: rect.height + 2 * reach,
        }
        .intersect(self.size().rect());
        let mut around = vec![0.0; wide.area()];
        self.source.read(wide, &mut around)?;
        let (mut soft, mut spare) = (around.clone(), around.clone());
        gaussian(&around, &mut soft, &mut spare, wide.width, &self.kernel);
        let marks = self.discs.marks(rect);
        let (dx, dy) = ((rect.x - wide.x).index(), (rect.y - wide.y).index());
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
