//! Pictures that lie on one canvas already, as two results of one layout do: nothing is registered, nothing resampled, and no
//! scale is touched. A picture without stars could not be registered, nor one of stars alone be matched.

use jigsawa_core::balance::{Balance, BalanceSettings, ScaleBy, Surface};
use jigsawa_core::canvas::{Canvas, Extent, Grid};
use jigsawa_core::doors::FrameSource;
use jigsawa_core::finish::sky_and_noise;
use jigsawa_core::layout::{
    FORMAT, Layout, LayoutFrame, Levels, Measurements, PlacementRecord, Reference,
};
use jigsawa_core::matching::{FoundBy, MatchErrors};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Map, Placement};
use jigsawa_core::space::{FramePx, Point, Rect};
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::fingerprint;

use crate::frames::Frame;
use crate::start::is_own_result;
use crate::trouble::Trouble;

/// Corners of two pictures on one canvas lie on the sky within so many pixels of each other.
const SAME_PX: f64 = 0.05;

/// About so many pixels of a plane tell its sky.
const SAMPLE: usize = 200_000;

/// Do all frames lie on the first one's pixels? By their places on the sky; without those only results of this program of
/// one size are taken to.
pub fn on_one_canvas(frames: &[Frame]) -> bool {
    let Some(first) = frames.first() else {
        return false;
    };
    frames.iter().all(|f| {
        let alike = f.facts.size == first.facts.size && f.facts.row_order == first.facts.row_order;
        let there = match (&f.facts.wcs, &first.facts.wcs) {
            (Some(a), Some(b)) => f.facts.size.corners::<FramePx>().iter().all(|p| {
                let back: Option<Point<FramePx>> = b.pixel(a.sky(*p));
                back.is_some_and(|q| q.distance(*p) < SAME_PX)
            }),
            (None, None) => is_own_result(f) && is_own_result(first),
            _ => false,
        };
        alike && there
    })
}

/// Are all frames results of this program that lie on one canvas, each file another one? Of files with three planes those
/// that a colour camera's frames were stacked into.
pub fn results_on_one_canvas(frames: &[Frame]) -> bool {
    let own = |f: &Frame| is_own_result(f) && (f.plane.is_none() || f.facts.master);
    frames.len() > 1 && frames.iter().all(own) && on_one_canvas(frames)
}

/// The layout of such frames: each where it is, its sky brought to the first one's, its scale as it is.
pub fn layout_of(frames: &[Frame]) -> Result<Layout, Trouble> {
    let skies: Vec<Sky> = frames.iter().map(sky).collect::<Result<_, _>>()?;
    let facts = &frames[0].facts;
    let canvas = Canvas::new(
        Extent::Reference,
        Grid::REFERENCE,
        facts.size,
        facts.row_order,
        &[],
    )
    .map_err(Trouble::Canvas)?;
    let here: Placement = Map::shift(0.0, 0.0);
    let rows = frames
        .iter()
        .zip(&skies)
        .enumerate()
        .map(|(i, (f, sky))| LayoutFrame {
            file: f.name(),
            plane: f.plane,
            filter: f.filter.clone(),
            exposure_s: f.facts.exposure_s,
            size: f.facts.size,
            saturation: f.facts.saturation,
            fingerprint: fingerprint::of_file(&f.path).ok(),
            hint: None,
            verdict: Verdict::Used,
            facts: Vec::new(),
            notes: Vec::new(),
            panel: None,
            calibration: None,
            measured: Measurements {
                stars: 0,
                fwhm_px: None,
                elongation: None,
                sky_adu: f64::from(sky.level),
                noise_adu: f64::from(sky.noise),
                deep_noise_adu: None,
                brightest_adu: Some(sky.brightest),
            },
            placement: Some(PlacementRecord {
                matrix: here.rows(),
                distortion: None,
                model: None,
                by: if i == 0 {
                    FoundBy::Reference
                } else {
                    FoundBy::Canvas
                },
                pairs: 0,
                coverage: None,
                errors: MatchErrors {
                    rms_px: 0.0,
                    max_px: 0.0,
                    crossval_rms_px: 0.0,
                    corner_sigma_px: 0.0,
                },
                described: here.describe(facts.size.centre()),
            }),
            balance: Some(Balance {
                scale_by: if i == 0 {
                    ScaleBy::Reference
                } else {
                    ScaleBy::None
                },
                surface: Surface::constant(f64::from(skies[0].level - sky.level)),
                ..Balance::unchanged(f64::from(sky.level), f64::from(sky.noise))
            }),
        })
        .collect();
    Ok(Layout {
        format: FORMAT,
        reference: Reference {
            file: frames[0].name(),
            plane: frames[0].plane,
            why: "the first; all lie on one canvas already".to_owned(),
        },
        canvas,
        wcs: facts.wcs.clone(),
        mosaic: None,
        levels: Some(Levels {
            settings: BalanceSettings {
                scale_by: Some(ScaleBy::None),
                shape: None,
            },
            ..Levels::default()
        }),
        frames: rows,
    })
}

/// The sky of a plane, and its brightest pixel.
struct Sky {
    level: f32,
    noise: f32,
    brightest: f32,
}

fn sky(frame: &Frame) -> Result<Sky, Trouble> {
    let (source, size) = (frame.source(), frame.facts.size);
    let step = size.area().div_ceil(SAMPLE).clamp(1, size.height());
    let mut row = vec![0.0; size.width()];
    let mut values: Vec<f32> = Vec::new();
    for y in (0..size.height()).step_by(step) {
        let line = Rect {
            x: 0,
            y: y.whole(),
            width: size.width(),
            height: 1,
        };
        source
            .read(line, &mut row)
            .map_err(|e| Trouble::Unreadable {
                file: frame.name(),
                error: e.to_string(),
            })?;
        values.extend(row.iter().filter(|v| v.is_finite()));
    }
    if values.is_empty() {
        return Err(Trouble::Measure {
            file: frame.name(),
            error: jigsawa_core::stars::DetectError::NoData,
        });
    }
    let (level, noise) = sky_and_noise(&mut values);
    let brightest = values.iter().copied().fold(level, f32::max);
    Ok(Sky {
        level,
        noise,
        brightest,
    })
}
