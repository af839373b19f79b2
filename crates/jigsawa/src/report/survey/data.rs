//! What the page's script knows of each frame.

use jigsawa_core::number::Convert;
use std::collections::HashMap;

use jigsawa_core::finish::Shade;
use jigsawa_core::frame::{FrameFacts, Kind, RowOrder};
use jigsawa_core::survey::Cell;
use jigsawa_core::survey::group::filter_label;
use jigsawa_core::verdict::Verdict;
use serde::Serialize;

use jigsawa_work::survey::Night;

/// One frame for the script.
#[derive(Debug, Serialize)]
pub struct FrameData {
    file: String,
    kind: &'static str,
    filter: String,
    used: bool,
    reason: String,
    doubts: Vec<String>,
    fwhm: Option<f64>,
    elongation: Option<f64>,
    score: Option<f64>,
    /// The field in nine parts, as the picture shows it: top row first.
    map: Option<[Option<Cell>; 9]>,
    /// Turned and placed on the field's best frame: turn in degrees, shift in picture pixels.
    turn: f64,
    shift: [f64; 2],
    picture: Option<PictureData>,
}

/// A frame's picture.
#[derive(Debug, Serialize)]
struct PictureData {
    width: usize,
    height: usize,
    factor: usize,
    /// Greys of the common stretch for this picture's greys 0, 1/32, … 1.
    common: Vec<f32>,
}

/// Steps of the table from one stretch to another: between them the change is a straight line.
const STEPS: usize = 32;

/// The frames for the script. Pictures of one filter and kind share a common stretch: that of the
/// frame with the middle level.
pub fn frames(night: &Night) -> Vec<FrameData> {
    let common = Common::of(night);
    (0..night.files.len())
        .map(|i| frame(night, i, &common))
        .collect()
}

fn frame(night: &Night, i: usize, common: &Common) -> FrameData {
    let (facts, judged) = (&night.facts[i], &night.judged[i]);
    let m = night.measures[i].as_ref();
    let compared = night.compared[i].as_ref();
    let upside_down = facts.row_order == RowOrder::BottomUp;
    let preview = night.previews[i].as_ref();
    let (dx, dy) = compared.and_then(|c| c.dither_px).unwrap_or((0.0, 0.0));
    let factor = preview.map_or(1.0, |p| p.factor.real());
    // Places of the best frame count from its first row, the picture from its top.
    let up = if upside_down { -1.0 } else { 1.0 };
    FrameData {
        file: night.files[i].name.clone(),
        kind: facts.kind.name(),
        filter: filter_label(facts).unwrap_or_else(|| "no filter".to_owned()),
        used: judged.verdict == Verdict::Used,
        reason: judged.verdict.reason().unwrap_or_default().to_owned(),
        doubts: judged.doubts.clone(),
        fwhm: m.and_then(|m| m.fwhm_px).map(|w| w.median),
        elongation: m.and_then(|m| m.elongation).map(|e| e.median),
        score: night.scores[i].map(|s| s.total),
        map: m.filter(|m| m.fwhm_px.is_some()).map(|m| {
            std::array::from_fn(|k| {
                let row = if upside_down { 2 - k / 3 } else { k / 3 };
                m.map[3 * row + k % 3].map(|c| Cell {
                    angle_deg: if upside_down {
                        -c.angle_deg
                    } else {
                        c.angle_deg
                    },
                    ..c
                })
            })
        }),
        turn: compared.and_then(|c| c.turn_deg).unwrap_or(0.0) * up,
        shift: [dx / factor, up * dy / factor],
        picture: preview.map(|p| PictureData {
            width: p.width,
            height: p.height,
            factor: p.factor,
            common: common
                .shade(facts)
                .map(|shade| {
                    (0..=STEPS)
                        .map(|k| shade.apply(p.shade.undo(k.single() / STEPS.single())))
                        .collect()
                })
                .unwrap_or_default(),
        }),
    }
}

/// The stretches that all pictures of one kind and filter have in common: that of the middle one of those that are
/// used, or of all where none is.
struct Common(HashMap<(Kind, Option<String>), Shade>);

impl Common {
    fn of(night: &Night) -> Self {
        let mut alike: HashMap<_, Vec<(bool, Shade)>> = HashMap::new();
        for (i, preview) in night.previews.iter().enumerate() {
            if let Some(p) = preview {
                let used = night.judged[i].verdict == Verdict::Used;
                let key = (night.facts[i].kind, filter_label(&night.facts[i]));
                alike.entry(key).or_default().push((used, p.shade));
            }
        }
        let middle = |mut shades: Vec<(bool, Shade)>| {
            if shades.iter().any(|(used, _)| *used) {
                shades.retain(|(used, _)| *used);
            }
            let mut by_grey: Vec<(f32, Shade)> =
                shades.iter().map(|(_, s)| (s.undo(0.2), *s)).collect();
            by_grey.sort_by(|a, b| a.0.total_cmp(&b.0));
            by_grey.get(by_grey.len() / 2).map(|(_, s)| *s)
        };
        let shades = alike.into_iter();
        Self(
            shades
                .filter_map(|(key, s)| Some((key, middle(s)?)))
                .collect(),
        )
    }

    fn shade(&self, facts: &FrameFacts) -> Option<&Shade> {
        self.0.get(&(facts.kind, filter_label(facts)))
    }
}

/// Is it a light?
pub fn is_light(night: &Night, i: usize) -> bool {
    night.facts[i].kind == Kind::Light
}
