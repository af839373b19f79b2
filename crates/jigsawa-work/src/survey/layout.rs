//! The night's verdicts and reference as a layout, for the commands that follow.

use jigsawa_core::canvas::{Canvas, Extent, Grid};
use jigsawa_core::filter::Filter;
use jigsawa_core::frame::Kind;
use jigsawa_core::layout::{FORMAT, Layout, LayoutFrame, Measurements, Reference};
use jigsawa_core::placement::Map;

use super::night::Night;
use crate::foreign::name_of;
use crate::trouble::Trouble;

/// The layout: lights only, none of them placed yet, on the grid of the proposed reference.
pub fn layout(night: &Night) -> Result<Layout, Trouble> {
    let (reference, why) = night.reference.as_ref().ok_or(Trouble::NoReference)?;
    let facts = &night.facts[*reference];
    let name = |i: usize| name_of(&night.files[i].path);
    let canvas = Canvas::new(
        Extent::Reference,
        Grid::REFERENCE,
        facts.size,
        facts.row_order,
        &[(Map::shift(0.0, 0.0), facts.size)],
    )
    .map_err(Trouble::Canvas)?;
    let frames = (0..night.files.len())
        .filter(|i| night.facts[*i].kind == Kind::Light)
        // A colour image is three frames to all that follows.
        .flat_map(|i| (0..night.facts[i].planes).map(move |plane| (i, plane)))
        .map(|(i, plane)| {
            let (f, m) = (&night.facts[i], night.measures[i].as_ref());
            let word = f.filter_card.clone().unwrap_or_default();
            LayoutFrame {
                file: name(i),
                plane: (f.planes == 3).then_some(plane),
                filter: match (f.planes, plane) {
                    (3, 0) => Filter::R,
                    (3, 1) => Filter::G,
                    (3, _) => Filter::B,
                    _ => f.filter.clone().unwrap_or(Filter::Other(word)),
                },
                exposure_s: f.exposure_s,
                size: f.size,
                saturation: f.saturation,
                fingerprint: None,
                hint: None,
                facts: Vec::new(),
                notes: Vec::new(),
                panel: None,
                calibration: night.through[i].as_ref().map(|c| c.record.clone()),
                verdict: night.judged[i].verdict.clone(),
                measured: Measurements {
                    stars: m.map_or(0, |m| m.stars),
                    fwhm_px: m.and_then(|m| m.fwhm_px).map(|w| w.median),
                    elongation: m.and_then(|m| m.elongation).map(|e| e.median),
                    sky_adu: m.map_or(0.0, |m| m.sky),
                    noise_adu: m.map_or(0.0, |m| m.noise),
                    deep_noise_adu: None,
                    brightest_adu: None,
                },
                placement: None,
                balance: None,
            }
        })
        .collect();
    Ok(Layout {
        format: FORMAT,
        reference: Reference {
            file: name(*reference),
            plane: (facts.planes == 3).then_some(1),
            why: why.clone(),
        },
        canvas,
        wcs: None,
        levels: None,
        mosaic: None,
        frames,
    })
}
