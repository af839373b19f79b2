//! Canvas, sky and rows of a layout, from the places of its frames.

use jigsawa_core::canvas::{Canvas, Extent, Grid};
use jigsawa_core::layout::{LayoutFrame, Measurements, PlacementRecord};
use jigsawa_core::placement::{Placement, Registration};
use jigsawa_core::stars::Catalogue;
use jigsawa_core::verdict::Verdict;
use jigsawa_core::wcs::{AGREE_PX, Agreed, Claim, Wcs, agreed, on_canvas};
use jigsawa_formats::fingerprint;

use super::place::{Lost, Placed};
use crate::frames::Frame;
use crate::trouble::Trouble;

/// The sky on the reference's grid, and what is said of frames whose headers disagree.
pub fn sky_of_reference(
    frames: &[Frame],
    placed: &[Result<Placed, Lost>],
    reference: usize,
) -> (Option<Wcs>, Vec<(usize, String)>) {
    let size = frames[reference].facts.size;
    // The reference first, so that it wins where nobody has a majority.
    let order = std::iter::once(reference).chain((0..frames.len()).filter(|i| *i != reference));
    let known: Vec<(usize, &Wcs, Placement)> = order
        .filter_map(|i| {
            let map = placed[i].as_ref().ok()?.map.retyped();
            Some((i, frames[i].facts.wcs.as_ref()?, map))
        })
        .collect();
    let claims: Vec<Claim<'_>> = known
        .iter()
        .map(|(i, wcs, placement)| Claim {
            wcs,
            placement,
            size: frames[*i].facts.size,
        })
        .collect();
    let Some(Agreed { claim, apart_px }) = agreed(&claims, size) else {
        return (None, Vec::new());
    };
    let believed = frames[known[claim].0].name();
    let disagreeing = known
        .iter()
        .zip(&apart_px)
        .filter(|(_, apart)| **apart > AGREE_PX)
        .map(|((i, _, _), apart)| {
            let said = format!(
                "its WCS is {apart:.0} px away from that of '{believed}', which is used for the results"
            );
            (*i, said)
        })
        .collect();
    (on_canvas(&claims[claim], size), disagreeing)
}

/// The canvas that is wanted.
#[derive(Debug, Clone, Copy)]
pub struct CanvasSettings {
    /// How much of the sky it covers.
    pub extent: Extent,
    /// Canvas pixels for one of the reference.
    pub scale: f64,
    /// Is it turned so that north is up?
    pub north_up: bool,
}

impl Default for CanvasSettings {
    fn default() -> Self {
        Self {
            extent: Extent::Reference,
            scale: 1.0,
            north_up: false,
        }
    }
}

/// The canvas that is asked for.
pub fn canvas(
    wanted: CanvasSettings,
    frames: &[Frame],
    placed: &[Result<Placed, Lost>],
    reference: usize,
    sky: Option<&Wcs>,
) -> Result<Canvas, Trouble> {
    let facts = &frames[reference].facts;
    let grid = if wanted.north_up {
        let north = sky
            .and_then(|s| s.north(facts.size.centre::<jigsawa_core::space::ReferencePx>()))
            .ok_or(Trouble::NoNorth)?;
        Grid::with_up(north, wanted.scale, facts.row_order)
    } else {
        Grid {
            scale: wanted.scale,
            ..Grid::REFERENCE
        }
    };
    let on_reference: Vec<(Registration, jigsawa_core::space::Size)> = placed
        .iter()
        .zip(frames)
        .filter_map(|(p, f)| Some((p.as_ref().ok()?.map.clone(), f.facts.size)))
        .collect();
    Canvas::new(
        wanted.extent,
        grid,
        facts.size,
        facts.row_order,
        &on_reference,
    )
    .map_err(Trouble::Canvas)
}

/// The sky on the canvas, from that on the reference.
pub fn sky_of_canvas(canvas: &Canvas, sky: Option<&Wcs>, reference: &Frame) -> Option<Wcs> {
    let placement: Placement = canvas.to_reference()?.retyped();
    let claim = Claim {
        wcs: sky?,
        placement: &placement,
        size: reference.facts.size,
    };
    on_canvas(&claim, canvas.size)
}

/// What a row of the layout is made of.
pub struct Row<'a> {
    /// The open frame.
    pub frame: &'a Frame,
    /// Its stars, where it has any.
    pub catalogue: Option<&'a Catalogue>,
    /// Is it used?
    pub verdict: Verdict,
    /// Where it lies.
    pub record: Option<PlacementRecord>,
    /// What the user said of its place.
    pub hint: Option<jigsawa_core::matching::Hint>,
    /// What should be known of it.
    pub notes: Vec<String>,
}

impl Row<'_> {
    /// The row itself.
    pub fn write(self) -> LayoutFrame {
        let used = self.verdict == Verdict::Used;
        LayoutFrame {
            file: self.frame.name(),
            plane: self.frame.plane,
            filter: self.frame.filter.clone(),
            exposure_s: self.frame.facts.exposure_s,
            size: self.frame.facts.size,
            saturation: self
                .frame
                .facts
                .saturation
                .or(self.catalogue.and_then(|c| c.saturation)),
            fingerprint: fingerprint::of_file(&self.frame.path).ok(),
            hint: self.hint,
            placement: self.record.filter(|_| used),
            facts: if used {
                self.frame.facts.notes()
            } else {
                Vec::new()
            },
            notes: if used {
                // Interpolated colours are tied by their making.
                let raw = self.frame.calibration.as_ref();
                let tied = raw.is_some_and(|c| c.is_colour());
                let seen = self.catalogue.map(|c| seen(c, tied)).unwrap_or_default();
                self.notes.into_iter().chain(seen).collect()
            } else {
                Vec::new()
            },
            verdict: self.verdict,
            panel: None,
            calibration: self.frame.calibration.as_ref().map(|c| c.record.clone()),
            measured: measurements(self.catalogue),
            balance: None,
        }
    }
}

/// A frame whose noise is stronger on large scales than its pixels' scatter says by this was smoothed or denoised; less
/// is what every resampled master has.
const SMOOTHED: f64 = 3.0;

/// What should be known of a frame's values, by its stars and its noise.
fn seen(c: &Catalogue, tied_by_making: bool) -> Vec<String> {
    let stretched = c.stretched().map(|by| {
        format!(
            "its stars of ten times the light are {:.0} % wider: it seems to have been stretched, and only linear frames \
             can be matched and merged truly",
            100.0 * by.value
        )
    });
    let tied = c.noise.tied();
    let smoothed = (tied > SMOOTHED && !tied_by_making).then(|| {
        format!(
            "it was smoothed or denoised: over 16 pixels its noise is {tied:.1} times what its pixels' scatter says, and \
             counts as that"
        )
    });
    stretched.into_iter().chain(smoothed).collect()
}

fn measurements(c: Option<&Catalogue>) -> Measurements {
    let some = |v: f64| v.is_finite().then_some(v);
    let with_stars = c.filter(|c| !c.stars.is_empty());
    Measurements {
        stars: c.map_or(0, |c| c.stars.len()),
        fwhm_px: with_stars.and_then(|c| some(c.fwhm_px)),
        elongation: with_stars.and_then(|c| some(c.elongation)),
        sky_adu: c.map_or(0.0, |c| f64::from(c.sky.typical_level())),
        noise_adu: c.map_or(0.0, |c| c.noise.pixel()),
        deep_noise_adu: c.map(|c| c.noise.deep()),
        brightest_adu: c.and_then(|c| c.stars.iter().map(|s| s.peak).max_by(f32::total_cmp)),
    }
}

/// A placement as layouts keep it.
pub fn record(map: &Placement, canvas: &Canvas, placed: &Placed) -> PlacementRecord {
    PlacementRecord {
        matrix: map.rows(),
        distortion: map.distortion().cloned(),
        model: placed.model,
        by: placed.by,
        pairs: placed.points,
        coverage: placed.coverage,
        errors: placed.errors,
        described: map.describe(canvas.size.centre()),
    }
}
