//! How strong the lines are against each other, and how much starlight is in them.

use jigsawa_core::colour::{Lines, MergedFrame, star_light, strengths as equal_light};
use jigsawa_core::filter::Band;
use jigsawa_core::layout::Layout;
use jigsawa_core::number::Convert;
use rayon::prelude::*;

use super::bind::find;
use super::full::Inputs;
use super::strengths::{Continuum, LineRow, Strengths};
use crate::clock::round;
use crate::frames::Frame;
use crate::small::small;
use crate::trouble::Trouble;

/// Width of the small frames that tell how bright a line is.
const WIDTH: usize = 480;

/// Measures the factors that the wanted rule gives, over the frames that any of the palettes uses.
pub fn strengths(
    (rule, continuum): (Lines, &[(String, String)]),
    layout: &Layout,
    frames: &[Frame],
    used: &[usize],
    inputs: &Inputs<'_>,
) -> Result<Strengths, Trouble> {
    let mut factors = vec![1.0f32; frames.len()];
    let lines: Vec<usize> = used
        .iter()
        .filter(|i| frames[**i].filter.band() == Band::Narrow)
        .copied()
        .collect();
    // One frame tells for its filter: they are matched to each other.
    let mut tellers: Vec<usize> = Vec::new();
    for i in &lines {
        if !tellers
            .iter()
            .any(|t| frames[*t].filter == frames[*i].filter)
        {
            tellers.push(*i);
        }
    }
    let rule = match rule {
        Lines::EqualSignal if tellers.len() < 2 => Lines::EqualNoise,
        rule => rule,
    };
    let mut of_tellers = vec![1.0f32; tellers.len()];
    match rule {
        Lines::EqualNoise => {}
        Lines::AsIs => {
            for (k, i) in of_tellers.iter_mut().zip(&tellers) {
                let scale = layout.frames[*i]
                    .balance
                    .as_ref()
                    .map_or(1.0, |b| b.scale.value);
                *k = (1.0 / scale).single();
            }
        }
        Lines::EqualSignal => {
            let light: Vec<Vec<f32>> = tellers
                .par_iter()
                .map(|i| {
                    let seen =
                        small(layout, frames, *i, WIDTH).map_err(|e| Trouble::Unreadable {
                            file: frames[*i].name(),
                            error: e.to_string(),
                        })?;
                    let balance = layout.frames[*i].balance.as_ref();
                    let light = seen.zip(balance).map(|(s, b)| s.with(b).into_data());
                    Ok(light.unwrap_or_default())
                })
                .collect::<Result<_, Trouble>>()?;
            of_tellers = equal_light(&light);
            // The frame that all values are matched to keeps its own units.
            let reference = layout.level_index().map(|i| &layout.frames[i].filter);
            let own = tellers
                .iter()
                .position(|t| Some(&frames[*t].filter) == reference);
            if let Some(own) = own.map(|k| of_tellers[k]) {
                for k in &mut of_tellers {
                    *k /= own;
                }
            }
        }
    }
    let by = match rule {
        Lines::EqualNoise => "equal noise",
        Lines::EqualSignal => "equal light",
        Lines::AsIs => "as it is",
    };
    let mut rows = Vec::new();
    for (k, t) in of_tellers.iter().zip(&tellers) {
        for i in &lines {
            if frames[*i].filter == frames[*t].filter {
                factors[*i] = *k;
            }
        }
        rows.push(LineRow {
            filter: frames[*t].filter.name().to_owned(),
            factor: round(f64::from(*k), 4),
            by,
            continuum: None,
            stars: None,
        });
    }
    let continuum = starlight(continuum, layout, frames, inputs, &mut rows)?;
    Ok(Strengths {
        factors,
        continuum,
        rows,
    })
}

/// How much of broad filters is in lines, as stars show it.
fn starlight(
    wanted: &[(String, String)],
    layout: &Layout,
    frames: &[Frame],
    inputs: &Inputs<'_>,
    rows: &mut [LineRow],
) -> Result<Vec<Continuum>, Trouble> {
    let mut continuum = Vec::new();
    for (line, broad) in wanted {
        let (l, b) = (find(frames, line, 0), find(frames, broad, 0));
        for (name, found) in [(line, &l), (broad, &b)] {
            if found.is_empty() {
                return Err(Trouble::NoSuchFrame {
                    option: "--continuum",
                    name: name.clone(),
                    frames: frames.iter().map(|f| f.filter.name().to_owned()).collect(),
                });
            }
        }
        let stars = of_both(layout, frames, inputs, (b[0], l[0]))?;
        let ratio = jigsawa_core::robust::robust_ratio(&stars)
            .filter(|r| r.used >= LEAST_STARS)
            .ok_or_else(|| Trouble::NoContinuum {
                line: line.clone(),
                broad: broad.clone(),
                stars: stars.len(),
            })?;
        let row = rows
            .iter_mut()
            .find(|r| r.filter == frames[l[0]].filter.name());
        if let Some(row) = row {
            row.continuum = Some((
                frames[b[0]].filter.name().to_owned(),
                round(ratio.slope.value, 5),
            ));
            row.stars = Some(ratio.used);
        }
        continuum.push((l, b, ratio.slope.value.single()));
    }
    Ok(continuum)
}

/// The light of stars that a broad frame and one of a line have in common; nothing without a catalogue of the broad one.
fn of_both(
    layout: &Layout,
    frames: &[Frame],
    inputs: &Inputs<'_>,
    (broad, line): (usize, usize),
) -> Result<Vec<(f64, f64, f64)>, Trouble> {
    let Some(catalogue) = inputs.catalogues.get(broad).and_then(Option::as_ref) else {
        return Ok(Vec::new());
    };
    let both = [broad, line];
    let sources = both.map(|i| frames[i].source());
    let input = |k: usize| inputs.input(&layout.frames[both[k]], both[k], &sources[k]);
    let (of_broad, of_line) = (input(0)?, input(1)?);
    let shown = |i: usize, input| MergedFrame {
        input,
        fwhm_px: layout.frames[i].measured.fwhm_px.unwrap_or(USUAL_FWHM_PX),
    };
    let (of_broad, of_line) = (shown(broad, &of_broad), shown(line, &of_line));
    star_light(catalogue, &of_broad, &of_line, layout.canvas.size).map_err(|(k, error)| {
        Trouble::Unreadable {
            file: frames[both[k]].name(),
            error: error.to_string(),
        }
    })
}

/// Stars of a frame that was not measured are about so wide.
const USUAL_FWHM_PX: f64 = 3.0;

/// Fewer stars than this do not tell how much of a broad filter a line lets through.
const LEAST_STARS: usize = 8;
