//! Placed frames seen, levelled and cut: all that joining needs.

use jigsawa_core::number::Convert;
use std::collections::BTreeMap;
use std::path::Path;

use jigsawa_core::balance::{Lattice, Member, Sky};
use jigsawa_core::filter::Filter;
use jigsawa_core::layout::{LevelReference, Levels, PlacementRecord};
use jigsawa_core::mosaic::border::Coverage;
use jigsawa_core::mosaic::cells::{Cells, Cover};
use jigsawa_core::mosaic::levels::{Levelled, ToLevel, level};
use jigsawa_core::mosaic::seams::{Costs, Labels, Shining, for_filter, lay, shining};
use jigsawa_core::placement::Placement;
use jigsawa_core::space::Size;
use jigsawa_core::stars::Catalogue;
use jigsawa_core::verdict::Verdict;

use super::names::Panel;
use super::place::Placed;
use super::seams_file::{read_seams, seams_side};
use super::skies::{Seen, Small, ToSee, skies};
use crate::frames::Frame;
use crate::run::Run;
use crate::trouble::Trouble;

/// All that joining needs.
pub struct Assembled {
    /// The cells that seams run along.
    pub cells: Cells,
    /// Which panel each cell shows.
    pub labels: Labels,
    /// What a seam costs where.
    pub costs: Costs,
    /// Stars that seams keep away from.
    pub stars: Vec<Shining>,
    /// Each filter's part.
    pub filters: Vec<FilterPart>,
    /// Side of a sky patch in pixels of the canvas.
    pub patch_px: usize,
}

/// The frames of a filter.
pub struct FilterPart {
    /// The filter.
    pub filter: Filter,
    /// Numbers among all frames, by panels.
    pub frames: Vec<usize>,
    /// The panel of each of its frames.
    pub panel_of: Vec<usize>,
    /// What each frame covers.
    pub coverage: Vec<Coverage>,
    /// A small copy of each.
    pub small: Vec<Small>,
    /// Their skies, solved together.
    pub levelled: Levelled,
    /// What each panel covers in this filter.
    pub covers: Vec<Option<Cover>>,
    /// Which panel each cell shows.
    pub labels: Labels,
    /// Noise of the anchor's pixels: the unit of differences.
    pub noise: f64,
}

/// Points of the lattice on a frame.
const POINTS: f64 = 600_000.0;

/// Points along a patch's side: an overlap of 8 % has some four patches across.
const PATCH: usize = 12;

/// More panels have no numbers in the seams.
const MOST_PANELS: usize = 250;

/// The frames that take part, and the grids that they are compared and cut on.
struct Ground<'a> {
    frames: &'a [Frame],
    placed: &'a Placed,
    used: Vec<usize>,
    placements: Vec<Option<Placement>>,
    lattice: Lattice,
    cells: Cells,
}

/// The layout that frames are added to: its file, the first pixel of the new canvas on its own, and its own pixels.
pub type Before<'a> = Option<(&'a Path, [i64; 2], Size)>;

/// What other filters say of the air before each panel.
type Weather = BTreeMap<usize, Vec<f64>>;

/// Another filter was taken on another hour, if not another night: the half of what it says is believed.
fn expected(weather: &Weather, panel: usize) -> f64 {
    let own = weather.get(&panel).filter(|w| !w.is_empty());
    own.map_or(0.0, |w| 0.5 * w.iter().sum::<f64>() / w.len().real())
}

/// Looks at all used frames, levels each filter and cuts the seams.
pub fn assemble(
    frames: &[Frame],
    placed: &mut Placed,
    before: Before<'_>,
    run: &Run<'_>,
) -> Result<Assembled, Trouble> {
    if placed.panels.len() > MOST_PANELS {
        return Err(Trouble::Options(
            "a mosaic has 250 panels at the most: make two of it",
        ));
    }
    let ground = Ground::new(frames, placed, before);
    let to_see = ground.to_see();
    // A frame with a place has been measured.
    let mut seen: Vec<Option<Seen>> = skies(&to_see, ground.lattice, ground.cells, run)?
        .into_iter()
        .map(Some)
        .collect();
    let mut filters: Vec<&Filter> = Vec::new();
    for i in &ground.used {
        if !filters.contains(&&frames[*i].filter) {
            filters.push(&frames[*i].filter);
        }
    }
    let mut weather = Weather::new();
    let (mut parts, mut references): (Vec<FilterPart>, Vec<LevelReference>) =
        (Vec::new(), Vec::new());
    for filter in filters {
        if let Some((part, reference)) = ground.part(filter, &mut seen, &weather) {
            for (panel, own) in part.panel_of.iter().zip(&part.levelled.weather) {
                weather.entry(*panel).or_default().extend(own);
            }
            parts.push(part);
            references.push(reference);
        }
    }
    let cells = ground.cells;
    let all: Vec<&[Option<Cover>]> = parts.iter().map(|p| p.covers.as_slice()).collect();
    let covers = Cover::in_all(&all, placed.panels.len());
    let shown: Vec<(&Catalogue, &Placement)> = (ground.used.iter())
        .filter_map(|i| {
            Some((
                placed.catalogues[*i].as_ref().ok()?,
                ground.placements[*i].as_ref()?,
            ))
        })
        .collect();
    let stars = shining(&shown, &covers, cells);
    let mut costs = Costs::of_stars(cells, &stars);
    for p in &parts {
        costs.add(&p.levelled.overlaps, p.noise, ground.lattice.patch_px());
    }
    let first = ground.panel_of(placed.layout.reference_index().unwrap_or(0));
    let laid =
        before.and_then(|(path, first, own)| read_seams(path, cells, first, own, &placed.panels));
    let labels = lay(&covers, &costs, first, laid);
    for p in &mut parts {
        p.labels = for_filter(&labels, &p.covers, cells);
    }
    let patch_px = ground.lattice.patch_px();
    for p in &parts {
        for (i, balance) in p.frames.iter().zip(&p.levelled.balances) {
            placed.layout.frames[*i].balance = Some(balance.clone());
        }
    }
    placed.layout.levels = Some(Levels {
        references,
        ..Levels::default()
    });
    Ok(Assembled {
        cells,
        labels,
        costs,
        stars,
        filters: parts,
        patch_px,
    })
}

impl<'a> Ground<'a> {
    fn new(frames: &'a [Frame], placed: &'a Placed, before: Before<'_>) -> Self {
        let canvas = placed.layout.canvas.size;
        let used: Vec<usize> = (0..frames.len())
            .filter(|i| placed.layout.frames[*i].verdict == Verdict::Used)
            .filter(|i| placed.panels.iter().any(|p| p.frames.contains(i)))
            .collect();
        let placements: Vec<Option<Placement>> = placed
            .layout
            .frames
            .iter()
            .map(|f| f.placement.as_ref().and_then(PlacementRecord::placement))
            .collect();
        let area = |i: &usize| {
            let size = frames[*i].facts.size;
            let unit = placements[*i]
                .as_ref()
                .map_or(1.0, |p| p.area_ratio(p.invert().apply(size.centre())));
            size.area().real() / unit
        };
        let usual = used.iter().map(area).sum::<f64>() / used.len().max(1).real();
        let step = (usual / POINTS).sqrt().ceil().index().max(1);
        let cells = match before.and_then(|(path, ..)| seams_side(path)) {
            Some(side) => Cells::of_side(canvas, side),
            None => Cells::over(canvas, usual),
        };
        Self {
            frames,
            placed,
            used,
            placements,
            lattice: Lattice::fine(canvas, step, PATCH),
            cells,
        }
    }

    fn to_see(&self) -> Vec<ToSee<'_>> {
        let one = |i: &usize| {
            Some(ToSee {
                frame: &self.frames[*i],
                placement: self.placements[*i].as_ref()?,
                catalogue: self.placed.catalogues[*i].as_ref().ok()?,
            })
        };
        self.used.iter().filter_map(one).collect()
    }

    fn panel_of(&self, i: usize) -> usize {
        let panels = self.placed.panels.iter();
        panels
            .enumerate()
            .find(|(_, p)| p.frames.contains(&i))
            .map_or(0, |(k, _)| k)
    }

    /// The frames of a filter brought together. `None` where none can be looked at.
    fn part(
        &self,
        filter: &Filter,
        seen: &mut [Option<Seen>],
        weather: &Weather,
    ) -> Option<(FilterPart, LevelReference)> {
        let mut own: Vec<usize> = self
            .used
            .iter()
            .copied()
            .filter(|i| self.frames[*i].filter == *filter)
            .collect();
        own.sort_by_key(|i| (self.panel_of(*i), *i));
        let (mut coverage, mut small) = (Vec::new(), Vec::new());
        let (mut to_level, mut covers) = (Vec::new(), Vec::new());
        let mut listed = Vec::new();
        for i in own {
            let at = self.used.iter().position(|u| *u == i);
            let (Some(seen), Some(member)) =
                (at.and_then(|k| seen.get_mut(k)?.take()), self.member(i))
            else {
                continue;
            };
            to_level.push(ToLevel {
                sky: Sky {
                    member,
                    samples: seen.samples,
                },
                kept: self.placed.layout.frames[i].balance.clone(),
                weather: expected(weather, self.panel_of(i)),
            });
            coverage.push(seen.coverage);
            small.push(seen.small);
            covers.push(seen.cover);
            listed.push(i);
        }
        if to_level.is_empty() {
            return None;
        }
        let levelled = level(&to_level, &|a, b| self.same(listed[a], listed[b]));
        let anchor = levelled.anchor;
        let why = if to_level[anchor].kept.is_some() {
            "as before"
        } else {
            "least noise once all are scaled"
        };
        let own = &levelled.balances[anchor];
        let noise = own.scale.value * own.noise_adu;
        let panels: Vec<usize> = listed.iter().map(|i| self.panel_of(*i)).collect();
        let reference = LevelReference {
            filter: filter.clone(),
            frame: listed[anchor],
            why: why.to_owned(),
        };
        let part = FilterPart {
            filter: filter.clone(),
            covers: Cover::of_panels(&covers, &panels, self.placed.panels.len()),
            frames: listed,
            panel_of: panels,
            coverage,
            small,
            levelled,
            labels: Vec::new(),
            noise,
        };
        Some((part, reference))
    }

    fn member(&self, i: usize) -> Option<Member<'_>> {
        let f = &self.frames[i];
        Some(Member {
            catalogue: self.placed.catalogues[i].as_ref().ok()?,
            placement: self.placements[i].as_ref()?,
            size: f.facts.size,
            filter: &f.filter,
            exposure_s: f.facts.exposure_s,
            gain_e_adu: f.facts.gain_e_adu,
        })
    }

    /// Stars that two frames share, as places in their catalogues.
    fn same(&self, i: usize, k: usize) -> Vec<(usize, usize)> {
        let both = (i.min(k), i.max(k));
        let pairs = self.placed.same.get(&both).cloned().unwrap_or_default();
        if i < k {
            pairs
        } else {
            pairs.into_iter().map(|(p, q)| (q, p)).collect()
        }
    }
}

/// The name of a panel by its number.
pub fn panel_name(panels: &[Panel], k: usize) -> &str {
    panels.get(k).map_or("?", |p| p.name.as_str())
}
