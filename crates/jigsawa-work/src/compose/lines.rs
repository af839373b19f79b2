//! How strong the lines are against each other, and how much starlight is in them.

use jigsawa_core::colour::{Lines, strengths as equal_light};
use jigsawa_core::filter::Band;
use jigsawa_core::layout::Layout;
use rayon::prelude::*;

use super::bind::find;
use super::full::{Inputs, star_light};
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
                *k = (1.0 / scale) as f32;
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
        let stars = star_light(layout, frames, inputs, (l[0], b[0]))?;
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
        continuum.push((l, b, ratio.slope.value as f32));
    }
    Ok(continuum)
}

/// Fewer stars than this do not tell how much of a broad filter a line lets through.
const LEAST_STARS: usize = 8;
