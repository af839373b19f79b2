//! What the page shows of one set, gathered while its files are at hand.

use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::hdr::Response;
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::{Input, placed};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::fits::FitsFrame;

use jigsawa_work::compose::file_name;
use jigsawa_work::frames::Frame;
use jigsawa_work::hdr::{Measured, Merged, Set};
use jigsawa_work::small::small;
use jigsawa_work::trouble::Trouble;

/// What the page shows of one set.
pub struct HdrSet {
    pub filter: String,
    /// Names and seconds of its exposures, the longest first.
    pub exposures: Vec<(String, f64)>,
    pub pairs: Vec<Pair>,
    pub cut: Option<Cut>,
    /// Number of the exposure of every pixel of a small picture of the canvas.
    pub sources: Plane,
    /// The longest exposure and the merged frame, small, above their sky.
    pub before: Option<Plane>,
    pub after: Plane,
    /// Noise of a pixel of the longest.
    pub sigma: f32,
}

/// Two exposures value against value.
pub struct Pair {
    pub longer: usize,
    pub shorter: usize,
    pub response: Response,
    /// Skies of both.
    pub skies: [f32; 2],
    /// Up to where the longer one is trusted, and where it is full.
    pub limit: f32,
    pub full: Option<f32>,
}

/// Light along a row through the brightest place.
pub struct Cut {
    pub row: usize,
    pub from: usize,
    /// Light above the sky of each exposure, in the longest one's units, and of the merged frame.
    pub exposures: Vec<Vec<f32>>,
    pub merged: Vec<f32>,
}

/// Width of the small pictures.
const WIDTH: usize = 420;

/// A cut is so long on either side of the brightest place, in parts of the canvas.
const REACH: f64 = 0.12;

impl HdrSet {
    /// Gathers it.
    pub fn new(
        set: &Set,
        measured: &Measured<'_>,
        merged: &Merged,
        (frames, layout): (&[Frame], &Layout),
    ) -> Result<Self, Trouble> {
        let unreadable = |what: &str, e: &dyn std::fmt::Display| Trouble::Unreadable {
            file: what.to_owned(),
            error: e.to_string(),
        };
        let open = |file: &jigsawa_formats::whole::Unfinished| {
            FitsFrame::open(file.path())
                .map_err(|e| unreadable(&file.target().display().to_string(), &e))
        };
        let (frame, map) = (open(&merged.frame)?, open(&merged.map)?);
        let size = frame.size();
        let step = size.width().div_ceil(WIDTH).max(1);
        let sky = measured.exposures[0].light.sky;
        let name = merged.frame.target().display().to_string();
        let longest = set.frames[0];
        let (after, (sources, before)) = rayon::join(
            || thinned(&frame.plane(0), step, sky),
            || {
                rayon::join(
                    || thinned(&map.plane(0), step, 0.0),
                    || small(layout, frames, longest, (size.width() / step).max(1)),
                )
            },
        );
        let after = after.map_err(|e| unreadable(&name, &e))?;
        let sources = sources.map_err(|e| unreadable(&name, &e))?;
        let before = before
            .map_err(|e| unreadable(&frames[longest].name(), &e))?
            .zip(layout.frames[longest].balance.as_ref())
            .map(|(s, b)| above(s.with(b), sky));
        let cut = cut(set, measured, (frames, layout), &frame, &after, step)
            .map_err(|e| unreadable(&name, &e))?;
        Ok(Self {
            filter: set.filter.name().to_owned(),
            exposures: set
                .frames
                .iter()
                .map(|i| {
                    let seconds = frames[*i].facts.exposure_s.unwrap_or(0.0);
                    (file_name(&frames[*i].name()), seconds)
                })
                .collect(),
            pairs: pairs(measured),
            cut,
            sources,
            before,
            after,
            sigma: measured.exposures[0].light.sigma(),
        })
    }
}

fn pairs(measured: &Measured<'_>) -> Vec<Pair> {
    let all = measured.exposures.iter().enumerate();
    all.flat_map(|(i, e)| {
        let of = |(k, r): (usize, &Option<Response>)| {
            let response = r.clone()?;
            // What the shorter one shows where the longer shows its sky.
            let dark = (f64::from(e.light.sky) - response.offset[0]) / response.slope.value;
            Some(Pair {
                longer: i,
                shorter: i + 1 + k,
                skies: [e.light.sky, dark.single()],
                response,
                limit: e.limit,
                full: e.saturation.map(|f| f.level),
            })
        };
        e.responses
            .iter()
            .enumerate()
            .filter_map(of)
            .collect::<Vec<_>>()
    })
    .collect()
}

fn above(mut plane: Plane, sky: f32) -> Plane {
    for v in plane.data_mut() {
        *v -= sky;
    }
    plane
}

/// Every so manieth pixel of every so manieth row, above a level.
fn thinned(source: &dyn FrameSource, step: usize, level: f32) -> Result<Plane, DoorError> {
    let size = source.size();
    let (w, h) = ((size.width() / step).max(1), (size.height() / step).max(1));
    let small = Size::new(w, h).unwrap_or(size);
    let mut plane = Plane::filled(small, f32::NAN);
    let mut row = vec![0.0; size.width()];
    for y in 0..h {
        let line = Rect {
            x: 0,
            y: (y * step + step / 2).min(size.height() - 1).whole(),
            width: size.width(),
            height: 1,
        };
        source.read(line, &mut row)?;
        for x in 0..w {
            plane.data_mut()[y * w + x] = row[(x * step + step / 2).min(size.width() - 1)] - level;
        }
    }
    Ok(plane)
}

/// Light along a row through the brightest place that is wider than a star.
fn cut(
    set: &Set,
    measured: &Measured<'_>,
    (frames, layout): (&[Frame], &Layout),
    merged: &FitsFrame,
    small: &Plane,
    step: usize,
) -> Result<Option<Cut>, DoorError> {
    let (w, h) = (small.size().width(), small.size().height());
    // The highest of the lowest of small blocks: a star fills none.
    let low = |x: usize, y: usize| {
        let near = (0..5).flat_map(|dy| (0..5).map(move |dx| (x + dx, y + dy)));
        near.map(|(x, y)| small.at(x.whole(), y.whole()))
            .fold(f32::INFINITY, f32::min)
    };
    let best = (0..h.saturating_sub(5))
        .flat_map(|y| (0..w.saturating_sub(5)).map(move |x| (x, y)))
        .map(|(x, y)| (low(x, y), x + 2, y + 2))
        .filter(|b| b.0.is_finite())
        .max_by(|a, b| a.0.total_cmp(&b.0));
    let Some((_, x, y)) = best else {
        return Ok(None);
    };
    let size = merged.size();
    let (x, row) = (x * step, (y * step + step / 2).min(size.height() - 1));
    let reach = (REACH * size.width().real()).max(30.0).index();
    let from = x.saturating_sub(reach);
    let rect = Rect {
        x: from.whole(),
        y: row.whole(),
        width: (x + reach).min(size.width()) - from,
        height: 1,
    };
    let sky = measured.exposures[0].light.sky;
    let mut exposures = Vec::new();
    for (i, (e, j)) in set
        .frames
        .iter()
        .zip(measured.exposures.iter().zip(&measured.joined))
    {
        let source = frames[*i].source();
        let input = Input::new(&source, e.member().placement.clone(), j.balance.clone());
        let mut values = placed(&input, rect)?.map_or_else(Vec::new, Plane::into_data);
        j.balance
            .apply_to_row(rect.x, rect.y, &mut values, &mut Vec::new());
        exposures.push(values.into_iter().map(|v| v - sky).collect());
    }
    let mut line = vec![0.0; rect.width];
    merged.plane(0).read(rect, &mut line)?;
    let row = match layout.canvas.row_order {
        jigsawa_core::frame::RowOrder::BottomUp => row + 1,
        jigsawa_core::frame::RowOrder::TopDown => size.height() - row,
    };
    Ok(Some(Cut {
        row,
        from: from + 1,
        exposures,
        merged: line.into_iter().map(|v| v - sky).collect(),
    }))
}
