//! From frames to a layout: stars, reference, placements, canvas, balances.

use std::borrow::Borrow;
use std::fmt;

use jigsawa_core::balance::{Balance, Member};
use jigsawa_core::canvas::{Canvas, Extent};
use jigsawa_core::layout::{FORMAT, Layout, LayoutFrame, Measurements, PlacementRecord, Reference};
use jigsawa_core::matching::{MatchError, MatchErrors, Matched, match_frames, spots};
use jigsawa_core::placement::{Map, Placement, Registration};
use jigsawa_core::stars::{Catalogue, DetectError, Settings};
use jigsawa_core::survey::stars_and_trails;
use jigsawa_core::verdict::Verdict;
use rayon::prelude::*;

use crate::account::Clock;
use crate::cli::{CanvasArg, Common};
use crate::frames::Frame;
use crate::normalize::balances;
use crate::tell::Trouble;
use crate::terminal::Progress;

/// How frames are to be registered.
pub struct Settled<'a> {
    /// The reference that the user wants.
    pub reference: Option<&'a str>,
    /// How much the canvas covers.
    pub canvas: CanvasArg,
    /// Frames that must not be left out.
    pub needed: &'a [usize],
    /// Are values to be matched, too?
    pub balance: bool,
}

/// Measures, registers and balances all frames. A frame that is needed and fails is an error; another
/// is left out with its reason.
pub fn register(
    frames: &[Frame],
    settled: &Settled<'_>,
    common: &Common,
    clock: &mut Clock,
) -> Result<Layout, Trouble> {
    let given = settled
        .reference
        .map(|name| {
            frames
                .iter()
                .position(|f| f.is_called(name))
                .ok_or_else(|| Trouble::NoSuchFrame {
                    option: "--reference",
                    name: name.to_owned(),
                    frames: frames.iter().map(Frame::name).collect(),
                })
        })
        .transpose()?;
    let catalogues = measure(frames, settled.needed, common)?;
    clock.lap("stars");
    // Where no frame is needed more than another, all decide on the reference.
    let among: Vec<usize> = if settled.needed.is_empty() {
        (0..frames.len()).collect()
    } else {
        settled.needed.to_vec()
    };
    let candidates = match given {
        Some(i) => vec![(i, "as asked".to_owned())],
        None => candidates(frames, &catalogues, &among),
    };
    let (reference, why, placed) = place_all(frames, &catalogues, candidates, &among)?;
    for i in settled.needed {
        if let Err(Lost::Unmatched(error)) = &placed[*i] {
            return Err(Trouble::Match {
                file: frames[*i].name(),
                reference: frames[reference].name(),
                error: *error,
            });
        }
    }
    clock.lap("register");
    let layout = lay_out(frames, &catalogues, &placed, (reference, why), settled)?;
    if settled.balance {
        clock.lap("normalize");
    }
    Ok(layout)
}

/// Places further frames on the reference of a layout, whose own frames are the first `count` and stay
/// where they are. A frame that cannot be placed is added as left out.
pub fn register_into(
    mut layout: Layout,
    frames: &[Frame],
    count: usize,
    common: &Common,
    clock: &mut Clock,
) -> Result<Layout, Trouble> {
    let reference = layout.reference_index().unwrap_or(0);
    let mut measured: Vec<&Frame> = vec![&frames[reference]];
    measured.extend(&frames[count..]);
    let mut catalogues = measure(&measured, &[0], common)?.into_iter();
    clock.lap("stars");
    let Some(Ok(of_reference)) = catalogues.next() else {
        return Err(Trouble::Measure {
            file: frames[reference].name(),
            error: DetectError::NoData,
        });
    };
    let catalogues: Vec<Result<Catalogue, DetectError>> = catalogues.collect();
    let placed: Vec<Result<Placed, Lost>> = catalogues
        .par_iter()
        .zip(&frames[count..])
        .map(|(stars, f)| {
            let stars = stars.as_ref().map_err(|e| Lost::Unmeasured(*e))?;
            place(&frames[reference], &of_reference, f, stars).map_err(Lost::Unmatched)
        })
        .collect();
    let to_reference = layout.canvas.to_reference();
    for ((f, stars), placed) in frames[count..].iter().zip(&catalogues).zip(&placed) {
        let placement = placed.as_ref().ok().and_then(|p| to_reference.then(&p.map));
        let verdict = match placed {
            Ok(_) => Verdict::Used,
            Err(lost) => Verdict::LeftOut(lost.to_string()),
        };
        let map = placement.map(|map| record(&map, &layout.canvas, placed.as_ref().ok()));
        layout
            .frames
            .push(row(f, stars.as_ref().ok(), verdict, map, None));
    }
    clock.lap("register");
    Ok(layout)
}

/// A frame's place on the reference.
struct Placed {
    map: Registration,
    matched: Option<Matched>,
    pairs: Vec<(usize, usize)>,
}

/// Why a frame has none.
enum Lost {
    Unmeasured(DetectError),
    Unmatched(MatchError),
}

impl fmt::Display for Lost {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unmeasured(e) => e.fmt(f),
            Self::Unmatched(e) => e.fmt(f),
        }
    }
}

impl Placed {
    fn reference(stars: &Catalogue) -> Self {
        Self {
            map: Map::shift(0.0, 0.0),
            matched: None,
            pairs: (0..stars.stars.len()).map(|i| (i, i)).collect(),
        }
    }
}

/// The stars of every frame. Frames go through memory one at a time; the next is read while one is
/// measured.
pub fn measure<F: Borrow<Frame> + Sync>(
    frames: &[F],
    needed: &[usize],
    common: &Common,
) -> Result<Vec<Result<Catalogue, DetectError>>, Trouble> {
    let progress = Progress::begin("stars", frames.len(), common);
    let mut catalogues = Vec::with_capacity(frames.len());
    std::thread::scope(|scope| {
        let (give, read) = std::sync::mpsc::sync_channel(0);
        let (back, spare) = std::sync::mpsc::channel::<Vec<f32>>();
        scope.spawn(move || {
            for f in frames {
                let f: &Frame = f.borrow();
                let buffer = spare.try_recv().unwrap_or_default();
                let plane = f.file.read_plane(f.plane.unwrap_or(0), buffer);
                if give.send(plane).is_err() {
                    break;
                }
            }
        });
        for (i, (f, plane)) in frames.iter().zip(&read).enumerate() {
            let f: &Frame = f.borrow();
            let plane = plane.map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))?;
            let settings = Settings::default();
            let found = stars_and_trails(&plane, f.facts.saturation, &settings);
            let stars = found.map(|(stars, _)| stars);
            match &stars {
                Ok(c) => tracing::info!(
                    "{}: {} stars, FWHM {:.2} px, sky {:.1}",
                    f.name(),
                    c.stars.len(),
                    c.fwhm_px,
                    c.sky.typical_level()
                ),
                Err(error) if needed.contains(&i) => {
                    return Err(Trouble::Measure {
                        file: f.name(),
                        error: *error,
                    });
                }
                Err(error) => tracing::warn!("{}: {error}", f.name()),
            }
            catalogues.push(stars);
            // The reader may have ended already; then the memory is not wanted any more.
            let _ = back.send(plane.into_data());
            progress.step();
        }
        Ok(())
    })?;
    Ok(catalogues)
}

/// References that are tried before it is given up that one frame places all others.
const MOST_REFERENCES: usize = 4;

/// The needed frames as references, best first: many clean stars, and sharp ones. Sharpness counts in
/// arc seconds when all frames know their scale, so that coarse pixels are no merit.
fn candidates(
    frames: &[Frame],
    catalogues: &[Result<Catalogue, DetectError>],
    needed: &[usize],
) -> Vec<(usize, String)> {
    let scales: Option<Vec<f64>> = frames.iter().map(|f| f.facts.arcsec_per_px()).collect();
    let mut scored: Vec<(f64, usize, String)> = needed
        .iter()
        .filter_map(|i| {
            let c = catalogues[*i].as_ref().ok()?;
            let stars = c.clean().count();
            let scale = scales.as_ref().map_or(1.0, |s| s[*i]);
            // Without a star there is no width either.
            let score = if stars == 0 {
                0.0
            } else {
                (stars as f64).sqrt() / (c.fwhm_px * scale)
            };
            let arcsec = scales
                .as_ref()
                .map_or(String::new(), |s| format!(", {:.1}\"", c.fwhm_px * s[*i]));
            let why = format!(
                "best in stars and sharpness: {stars} clean stars, FWHM {:.2} px{arcsec}",
                c.fwhm_px
            );
            Some((score, *i, why))
        })
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
    scored.into_iter().map(|(_, i, why)| (i, why)).collect()
}

/// A reference, why it is one, and the place of every frame on it.
type OnReference = (usize, String, Vec<Result<Placed, Lost>>);

/// Places all frames on the first candidate that all needed frames can be placed on, or else on the
/// one that most can: a stray frame with many stars must not decide.
fn place_all(
    frames: &[Frame],
    catalogues: &[Result<Catalogue, DetectError>],
    candidates: Vec<(usize, String)>,
    needed: &[usize],
) -> Result<OnReference, Trouble> {
    let mut best: Option<(usize, OnReference)> = None;
    for (tried, (reference, why)) in candidates.into_iter().take(MOST_REFERENCES).enumerate() {
        let stars = catalogues[reference]
            .as_ref()
            .map_err(|e| Trouble::Measure {
                file: frames[reference].name(),
                error: *e,
            })?;
        let placed: Vec<Result<Placed, Lost>> = catalogues
            .par_iter()
            .enumerate()
            .map(|(i, c)| match c {
                Err(e) => Err(Lost::Unmeasured(*e)),
                Ok(_) if i == reference => Ok(Placed::reference(stars)),
                Ok(c) => place(&frames[reference], stars, &frames[i], c).map_err(Lost::Unmatched),
            })
            .collect();
        let count = needed.iter().filter(|i| placed[**i].is_ok()).count();
        let why = if tried == 0 {
            why
        } else {
            format!("{why}; more frames lie on it than on the frame with the best stars")
        };
        if best.as_ref().is_none_or(|(most, _)| count > *most) {
            best = Some((count, (reference, why, placed)));
        }
        if count == needed.len() {
            break;
        }
    }
    best.map(|(_, on)| on).ok_or_else(|| Trouble::Measure {
        file: frames.first().map(Frame::name).unwrap_or_default(),
        error: DetectError::NoData,
    })
}

fn place(
    reference: &Frame,
    reference_stars: &Catalogue,
    frame: &Frame,
    stars: &Catalogue,
) -> Result<Placed, MatchError> {
    let matched = match_frames(
        &spots(reference_stars),
        &spots(stars),
        (reference.facts.size, frame.facts.size),
        &Wish::default(),
    )?;
    Ok(Placed {
        map: matched.map,
        pairs: matched.pairs.clone(),
        matched: Some(matched),
    })
}

/// Canvas, placements on it, and balances.
fn lay_out(
    frames: &[Frame],
    catalogues: &[Result<Catalogue, DetectError>],
    placed: &[Result<Placed, Lost>],
    (reference, why): (usize, String),
    settled: &Settled<'_>,
) -> Result<Layout, Trouble> {
    let facts = &frames[reference].facts;
    let extent = match settled.canvas {
        CanvasArg::Reference => Extent::Reference,
        CanvasArg::Union => Extent::Union,
        CanvasArg::Common => Extent::Common,
    };
    let on_reference: Vec<(Registration, jigsawa_core::space::Size)> = placed
        .iter()
        .zip(frames)
        .filter_map(|(p, f)| Some((p.as_ref().ok()?.map, f.facts.size)))
        .collect();
    let canvas =
        Canvas::new(extent, facts.size, facts.row_order, &on_reference).map_err(Trouble::Canvas)?;
    let to_reference = canvas.to_reference();
    let placements: Vec<Option<Placement>> = placed
        .iter()
        .map(|p| to_reference.then(&p.as_ref().ok()?.map))
        .collect();

    let members: Vec<Option<Member<'_>>> = (0..frames.len())
        .map(|i| {
            Some(Member {
                catalogue: catalogues[i].as_ref().ok()?,
                placement: placements[i].as_ref()?,
                pairs: &placed[i].as_ref().ok()?.pairs,
                band: frames[i].filter.band(),
            })
        })
        .collect();
    let mut balanced = if settled.balance {
        balances(&members, reference, canvas.size)
    } else {
        vec![None; frames.len()]
    };

    let mut rows = Vec::with_capacity(frames.len());
    for (i, f) in frames.iter().enumerate() {
        let balance = balanced[i].take();
        let verdict = match (&placed[i], &balance) {
            (Err(lost), _) => Verdict::LeftOut(lost.to_string()),
            (Ok(_), Some(Err(e))) if settled.needed.contains(&i) => {
                return Err(Trouble::Balance {
                    file: f.name(),
                    reference: frames[reference].name(),
                    error: *e,
                });
            }
            (Ok(_), Some(Err(e))) => Verdict::LeftOut(e.to_string()),
            _ => Verdict::Used,
        };
        let used = verdict == Verdict::Used;
        let catalogue = catalogues[i].as_ref().ok();
        let map = placements[i]
            .filter(|_| used)
            .map(|map| record(&map, &canvas, placed[i].as_ref().ok()));
        let balance = balance.and_then(Result::ok).filter(|_| used);
        rows.push(row(f, catalogue, verdict, map, balance));
    }
    Ok(Layout {
        format: FORMAT,
        reference: Reference {
            file: frames[reference].name(),
            plane: frames[reference].plane,
            why,
        },
        canvas,
        frames: rows,
    })
}

fn row(
    f: &Frame,
    catalogue: Option<&Catalogue>,
    verdict: Verdict,
    placement: Option<PlacementRecord>,
    balance: Option<Balance>,
) -> LayoutFrame {
    LayoutFrame {
        file: f.name(),
        plane: f.plane,
        filter: f.filter.clone(),
        exposure_s: f.facts.exposure_s,
        size: f.facts.size,
        saturation: f.facts.saturation.or(catalogue.and_then(|c| c.saturation)),
        verdict,
        measured: measurements(catalogue),
        placement,
        balance,
    }
}

fn measurements(c: Option<&Catalogue>) -> Measurements {
    let some = |v: f64| v.is_finite().then_some(v);
    Measurements {
        stars: c.map_or(0, |c| c.stars.len()),
        fwhm_px: c
            .filter(|c| !c.stars.is_empty())
            .and_then(|c| some(c.fwhm_px)),
        elongation: c
            .filter(|c| !c.stars.is_empty())
            .and_then(|c| some(c.elongation)),
        sky_adu: c.map_or(0.0, |c| f64::from(c.sky.typical_level())),
        noise_adu: c.map_or(0.0, |c| f64::from(c.sky.typical_sigma())),
        brightest_adu: c.and_then(|c| c.stars.iter().map(|s| s.peak).max_by(f32::total_cmp)),
    }
}

fn record(map: &Placement, canvas: &Canvas, placed: Option<&Placed>) -> PlacementRecord {
    let matched = placed.and_then(|p| p.matched.as_ref());
    PlacementRecord {
        matrix: map.rows(),
        model: matched.map(|m| m.model),
        pairs: placed.map_or(0, |p| p.pairs.len()),
        coverage: matched.map(|m| m.coverage),
        errors: matched.map_or(
            MatchErrors {
                rms_px: 0.0,
                max_px: 0.0,
                unseen_rms_px: 0.0,
                corner_px: 0.0,
            },
            |m| m.errors,
        ),
        described: map.describe(canvas.size.centre()),
    }
}
