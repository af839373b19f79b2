//! What a mosaic has found, to be told.

use jigsawa_core::number::Convert;
use std::collections::BTreeMap;

use serde::Serialize;

use jigsawa_work::clock::round;
use jigsawa_work::frames::Frame;
use jigsawa_work::mosaic::{Assembled, Placed, panel_name};

/// A mosaic in the account.
#[derive(Debug, Clone, Serialize)]
pub struct MosaicAccount {
    pub projection: &'static str,
    /// Width and height of the canvas on the sky; absent where nothing tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field_deg: Option<[f64; 2]>,
    pub panels: Vec<PanelRow>,
    /// Pairs of panels that overlap.
    pub overlaps: Vec<OverlapRow>,
}

#[derive(Debug, Clone, Serialize)]
pub struct PanelRow {
    pub panel: String,
    pub frames: Vec<String>,
    pub filters: Vec<String>,
    pub rotation_deg: f64,
}

/// Two panels that overlap.
#[derive(Debug, Clone, Serialize)]
pub struct OverlapRow {
    pub panels: [String; 2],
    /// Stars that frames of both share, all filters together.
    pub stars: usize,
    /// Root mean square distance of both sights of a star, in canvas pixels.
    pub rms_px: f64,
    /// What both differ by, for each filter.
    pub levels: Vec<LevelStep>,
    /// Why the tie of both is weak.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub doubts: Vec<String>,
}

impl OverlapRow {
    /// Its doubts in one line; none where there are none.
    pub fn doubted(&self) -> Option<String> {
        let [a, b] = &self.panels;
        (!self.doubts.is_empty()).then(|| format!("{a} | {b}: {}", self.doubts.join("; ")))
    }
}

/// Neighbours share so many stars at least, if they are to hold each other.
const FEW_STARS: usize = 6;

/// What overlaps by less than this part of the widest overlap is a corner, which need not hold.
const CORNER: f64 = 0.3;

/// Stars that meet no better than this are told, half a pixel is refused.
const ROUGH_PX: f64 = 0.35;

/// Skies that differ by more of the noise than this after all are told.
const STEP_SIGMA: f64 = 0.5;

/// Fills in which ties are weak.
fn doubt(rows: &mut [OverlapRow]) {
    let width = |o: &OverlapRow| o.levels.iter().map(|l| l.patches).max().unwrap_or(0).real();
    let widest = rows.iter().map(width).fold(0.0, f64::max);
    for o in rows {
        if o.stars < FEW_STARS && width(o) > CORNER * widest {
            let stars = if o.stars == 1 {
                "star holds"
            } else {
                "stars hold"
            };
            o.doubts
                .push(format!("only {} {stars} both together", o.stars));
        }
        if o.rms_px > ROUGH_PX {
            o.doubts
                .push(format!("their stars meet to {:.2} px only", o.rms_px));
        }
        for l in o.levels.iter().filter(|l| l.after_sigma > STEP_SIGMA) {
            o.doubts.push(format!(
                "in {} their skies still differ by {:.1} times the noise",
                l.filter, l.after_sigma
            ));
        }
    }
}

/// By how much two panels differ in a filter, in widths of the pixel noise.
#[derive(Debug, Clone, Serialize)]
pub struct LevelStep {
    pub filter: String,
    /// Median difference as the files are, without the scales.
    pub before_sigma: f64,
    /// What is left.
    pub after_sigma: f64,
    pub patches: usize,
}

/// All that is told of a mosaic.
pub fn mosaic_account(
    frames: &[Frame],
    placed: &Placed,
    assembled: Option<&Assembled>,
) -> MosaicAccount {
    let panels = placed
        .panels
        .iter()
        .map(|p| {
            let mut filters: Vec<String> = Vec::new();
            for i in &p.frames {
                let name = frames[*i].filter.name().to_owned();
                if !filters.contains(&name) {
                    filters.push(name);
                }
            }
            let record = p
                .frames
                .first()
                .and_then(|i| placed.layout.frames[*i].placement.as_ref());
            PanelRow {
                panel: p.name.clone(),
                frames: p.frames.iter().map(|i| frames[*i].name()).collect(),
                filters,
                rotation_deg: round(record.map_or(0.0, |r| r.described.rotation_deg), 3),
            }
        })
        .collect();
    MosaicAccount {
        projection: placed.projection.words(),
        field_deg: placed.field_deg.map(|f| f.map(|v| round(v, 3))),
        panels,
        overlaps: overlaps(placed, assembled),
    }
}

fn overlaps(placed: &Placed, assembled: Option<&Assembled>) -> Vec<OverlapRow> {
    let panel_of = |i: usize| placed.panels.iter().position(|p| p.frames.contains(&i));
    let mut sums: BTreeMap<(usize, usize), (usize, f64)> = BTreeMap::new();
    for t in &placed.ties {
        let (Some(p), Some(q)) = (panel_of(t.a), panel_of(t.b)) else {
            continue;
        };
        if p != q {
            let s = sums.entry((p.min(q), p.max(q))).or_default();
            *s = (s.0 + t.stars, s.1 + t.stars.real() * t.rms_px * t.rms_px);
        }
    }
    let mut levels: BTreeMap<(usize, usize), Vec<LevelStep>> = BTreeMap::new();
    for part in assembled.iter().flat_map(|a| &a.filters) {
        let mut by_pair: BTreeMap<(usize, usize), Vec<(f64, f64)>> = BTreeMap::new();
        for o in &part.levelled.overlaps {
            let (p, q) = (part.panel_of[o.a], part.panel_of[o.b]);
            if p != q && !o.patches.is_empty() {
                let list = by_pair.entry((p.min(q), p.max(q))).or_default();
                list.extend(o.patches.iter().map(|s| (s.before, s.after)));
            }
        }
        for (pair, list) in by_pair {
            sums.entry(pair).or_default();
            let unit = part.noise.max(1e-30);
            let middle = |of: fn(&(f64, f64)) -> f64| {
                let mut v: Vec<f64> = list.iter().map(|p| of(p).abs()).collect();
                v.sort_by(f64::total_cmp);
                round(v[v.len() / 2] / unit, 3)
            };
            levels.entry(pair).or_default().push(LevelStep {
                filter: part.filter.name().to_owned(),
                before_sigma: middle(|p| p.0),
                after_sigma: middle(|p| p.1),
                patches: list.len(),
            });
        }
    }
    let mut rows: Vec<OverlapRow> = sums
        .into_iter()
        .map(|((p, q), (stars, sum))| OverlapRow {
            doubts: Vec::new(),
            panels: [p, q].map(|k| panel_name(&placed.panels, k).to_owned()),
            stars,
            rms_px: round(
                if stars > 0 {
                    (sum / stars.real()).sqrt()
                } else {
                    0.0
                },
                4,
            ),
            levels: levels.remove(&(p, q)).unwrap_or_default(),
        })
        .collect();
    doubt(&mut rows);
    rows
}
