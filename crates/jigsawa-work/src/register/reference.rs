//! Which frame all others are brought to: the survey's merit, over all frames and filters.

use jigsawa_core::number::Convert;
use jigsawa_core::placement::Registration;
use jigsawa_core::robust::median;
use jigsawa_core::survey::reference::{Merits, merit};

use super::measure::Measured;
use crate::frames::Frame;

/// Frames as references.
pub struct Candidates<'a> {
    pub frames: &'a [Frame],
    pub catalogues: &'a [Measured],
}

impl Candidates<'_> {
    /// Those among the listed frames that have stars, best first, each with the reason. Where the frames lie is not
    /// known yet.
    pub fn best_first(&self, among: &[usize]) -> Vec<(usize, String)> {
        let mut scored: Vec<(f64, usize)> = among
            .iter()
            .filter_map(|i| Some((merit(&self.merits(*i, among, 0.0)?), *i)))
            .collect();
        scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
        scored.into_iter().map(|(_, i)| (i, self.why(i))).collect()
    }

    /// The best when places are known: one near the middle of all, if it is better by a tenth than the
    /// frame that they were found on.
    pub fn nearer_the_middle(
        &self,
        among: &[usize],
        current: usize,
        maps: &[Option<Registration>],
    ) -> Option<(usize, String)> {
        const BETTER: f64 = 1.1;
        let size = self.frames[current].facts.size;
        let diagonal = size.width().real().hypot(size.height().real());
        // Where each frame's centre lies on the current reference.
        let centre = |i: usize| {
            let map = maps[i].as_ref()?;
            Some(map.invert().apply(self.frames[i].facts.size.centre()))
        };
        let of =
            |pick: fn(&jigsawa_core::space::Point<jigsawa_core::space::ReferencePx>) -> f64| {
                let mut v: Vec<f32> = among
                    .iter()
                    .filter_map(|i| Some(pick(&centre(*i)?).single()))
                    .collect();
                (!v.is_empty()).then(|| f64::from(median(&mut v)))
            };
        let (x, y) = (of(|p| p.x)?, of(|p| p.y)?);
        let score = |i: usize| {
            let p = centre(i)?;
            let off = (p.x - x).hypot(p.y - y) / diagonal;
            Some(merit(&self.merits(i, among, off)?))
        };
        let now = score(current)?;
        let best = among
            .iter()
            .filter_map(|i| Some((score(*i)?, *i)))
            .max_by(|a, b| a.0.total_cmp(&b.0).then(b.1.cmp(&a.1)))?;
        (best.0 > BETTER * now).then(|| {
            (
                best.1,
                format!("{}; nearer the middle of all frames", self.why(best.1)),
            )
        })
    }

    fn stars(&self, i: usize) -> Option<usize> {
        let stars = self.catalogues[i].as_ref().ok()?.clean().count();
        (stars > 0).then_some(stars)
    }

    /// Seconds of arc for a pixel, when all frames know: coarse pixels are no merit.
    fn scale(&self, i: usize) -> Option<f64> {
        let all = self
            .frames
            .iter()
            .all(|f| f.facts.arcsec_per_px().is_some());
        self.frames[i].facts.arcsec_per_px().filter(|_| all)
    }

    fn merits(&self, i: usize, among: &[usize], off_middle: f64) -> Option<Merits> {
        let c = self.catalogues[i].as_ref().ok()?;
        let mut counts: Vec<f32> = among
            .iter()
            .filter_map(|k| self.stars(*k).map(Convert::single))
            .collect();
        let usual = f64::from(median(&mut counts)).max(1.0);
        Some(Merits {
            stars_ratio: self.stars(i)?.real() / usual,
            width: c.fwhm_px * self.scale(i).unwrap_or(1.0),
            elongation: c.elongation.max(1.0),
            transparency: 1.0,
            off_middle,
        })
    }

    fn why(&self, i: usize) -> String {
        let Ok(c) = &self.catalogues[i] else {
            return "no other frame has a star".to_owned();
        };
        let arcsec = self
            .scale(i)
            .map_or(String::new(), |s| format!(", {:.1}\"", c.fwhm_px * s));
        format!(
            "best in stars, sharpness and roundness: {} clean stars, FWHM {:.2} px{arcsec}, elongation {:.2}",
            c.clean().count(),
            c.fwhm_px,
            c.elongation
        )
    }
}
