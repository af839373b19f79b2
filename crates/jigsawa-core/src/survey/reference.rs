//! Which frame all others should be brought to: a good one near the middle of the dithers, whatever
//! its filter. From the middle the common area is largest, and no frame has to move far.

use super::compare::{Compared, Light};
use crate::number::Convert;
use crate::robust::median;

/// The frame that is proposed, and why.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// Its number among the lights.
    pub light: usize,
    /// The reasons in words.
    pub why: String,
}

/// At this distance from the middle, in parts of the frame's diagonal, a frame counts half.
const FAR: f64 = 0.04;

/// What speaks for a frame as the reference.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Merits {
    /// Stars that can be used, against the usual number.
    pub stars_ratio: f64,
    /// Width of the stars, in a unit that all frames share.
    pub width: f64,
    /// Elongation of the stars.
    pub elongation: f64,
    /// Light that came through, 0 to 1.
    pub transparency: f64,
    /// Distance from the middle of the dithers, in parts of the frame's diagonal.
    pub off_middle: f64,
}

/// One number for them: sharp, round, clear, many stars, near the middle.
pub fn merit(m: &Merits) -> f64 {
    let near = 1.0 / (1.0 + (m.off_middle / FAR).powi(2));
    let stars = m.stars_ratio.sqrt().min(2.0);
    near * stars * m.transparency / (m.elongation * m.elongation * m.width)
}

/// The best of the lights that may be used, on the field with most frames. Sharpness is in arc seconds
/// where all frames know their scale, so that coarse pixels are no merit. `None` when no light that
/// may be used lies on that field.
pub fn propose(lights: &[Light<'_>], compared: &[Compared], usable: &[bool]) -> Option<Proposal> {
    let on_field: Vec<usize> = (0..lights.len())
        .filter(|i| usable[*i] && compared[*i].field.is_some())
        .collect();
    let first = on_field.iter().filter_map(|i| compared[*i].field).min()?;
    let inside: Vec<usize> = on_field
        .into_iter()
        .filter(|i| compared[*i].field == Some(first))
        .collect();
    let scales: Option<Vec<f64>> = lights.iter().map(|l| l.facts.arcsec_per_px()).collect();
    let width = |i: usize| {
        let scale = scales.as_ref().map_or(1.0, |s| s[i]);
        lights[i].measures.fwhm_px.map(|w| w.median * scale)
    };
    let mut stars: Vec<f32> = inside
        .iter()
        .map(|i| lights[*i].measures.stars_used.single())
        .collect();
    let usual_stars = f64::from(median(&mut stars)).max(1.0);
    let distance = |i: usize| compared[i].dither_px.map_or(0.0, |(x, y)| x.hypot(y));
    let merit_of = |i: usize| {
        let m = lights[i].measures;
        let size = lights[i].facts.size;
        let diagonal = size.width().real().hypot(size.height().real());
        Some(merit(&Merits {
            stars_ratio: m.stars_used.real() / usual_stars,
            width: width(i)?,
            elongation: m.elongation.map_or(2.0, |e| e.median),
            transparency: compared[i].transparency.unwrap_or(0.5),
            off_middle: distance(i) / diagonal,
        }))
    };
    let best = inside
        .iter()
        .filter_map(|i| Some((merit_of(*i)?, *i)))
        .max_by(|a, b| a.0.total_cmp(&b.0).then(b.1.cmp(&a.1)))?
        .1;
    let m = lights[best].measures;
    let unit = if scales.is_some() { "\"" } else { " px" };
    let why = format!(
        "best in sharpness, roundness, stars and transparency near the middle of the dithers: FWHM {:.2}{unit}, \
         elongation {:.2}, {} stars, {:.0} px from the middle",
        width(best).unwrap_or(0.0),
        m.elongation.map_or(1.0, |e| e.median),
        m.stars_used,
        distance(best),
    );
    Some(Proposal { light: best, why })
}
