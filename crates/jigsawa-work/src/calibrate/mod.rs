//! From the raw frames of some nights to masters, and to a layout in which each light has what it needs.
//!
//! `gather` opens the frames and finds out what they are; the core sorts them. `masters` averages those that lights
//! need, unless the library (`library`) has them of the same frames; `lights` measures how much of a dark each group of
//! lights has (`glow`, of its amplifier), lists the flawed pixels, and writes the layout's records with what they scatter by (`noise`). `own` lists what single lights have besides; `write` makes
//! calibrated copies for other programs.

mod gather;
mod library;
mod lights;
mod masters;
mod own;
mod raw;
mod write;

use std::path::{Path, PathBuf};

use jigsawa_core::calibrate::group::Group;
use jigsawa_core::calibrate::needs::{DarkFor, Needs, needs};
use jigsawa_core::calibrate::noise::NoiseModel;
use jigsawa_core::calibrate::pattern::Pattern;
use jigsawa_core::calibrate::strays::{Misfit, Stray};
use jigsawa_core::canvas::{Canvas, Extent, Grid};
use jigsawa_core::frame::Kind;
use jigsawa_core::layout::{FORMAT, Layout, Reference};
use jigsawa_core::measured::Measured;
use jigsawa_core::placement::Map;

pub use gather::kind_by_name;
pub use masters::Master;
pub use raw::{KindFrom, Raw, kind_by_pixels};
pub use write::written_frames;

use crate::foreign::name_of;
use crate::frames::Spoilt;
use crate::run::Run;
use crate::trouble::Trouble;

/// What is wanted of a calibration.
pub struct CalibrateSettings<'a> {
    /// Folders and files of raw frames.
    pub paths: &'a [PathBuf],
    /// What lies in this folder is no raw frame: results.
    pub out: &'a Path,
    /// Where masters are kept.
    pub library: &'a Path,
    /// Colours before the pixels, where no card says them: `RGGB`.
    pub pattern: Option<Pattern>,
    /// Filters by name, and the frames that have them, before what headers say.
    pub filters: &'a [(String, String)],
    /// Are cosmic rays looked for in each light?
    pub rays: bool,
    /// What the user settles: a group of lights, and the set that it gets (`no-dark`, `no-flat` for none).
    pub uses: &'a [(String, String)],
}

/// A frame that does not belong to its set.
pub struct LeftOut {
    /// Its number.
    pub frame: usize,
    /// Why.
    pub stray: Stray,
}

/// A light whose header names another target than most of them.
pub struct OtherTarget {
    /// Its number.
    pub frame: usize,
    /// Its own target.
    pub is: String,
    /// That of most.
    pub others: String,
}

/// Pixels that are made up in single lights of a group.
#[derive(Debug, Clone, Copy, Default)]
pub struct OwnFlaws {
    /// Lights that have such.
    pub frames: usize,
    /// Pixels that cosmic rays have hit, in all of them together.
    pub rays: usize,
    /// Pixels that charge of full stars ran into.
    pub blooms: usize,
    /// Rays were wanted, but not looked for behind a colour camera's pattern.
    pub refused: bool,
}

/// What a group of lights gets.
pub struct LightsGet {
    /// The group's number.
    pub group: usize,
    /// What was found for it, by numbers of groups, and what is doubtful.
    pub needs: Needs,
    /// The part of the dark that the lights have, by their own hot pixels; none where it was not measured.
    pub factor: Option<Measured>,
    /// The part of the dark's glow that they have, where it is another one.
    pub glow: Option<Measured>,
    /// Has its dark been refused for want of hot pixels that tell its part?
    pub refused: bool,
    /// A dark or bias that was found by its facts takes off what the lights cannot have.
    pub misfit: Option<Misfit>,
    /// Pixels that are made up, by flaw.
    pub defects: Vec<(&'static str, usize)>,
    /// Whole columns among them.
    pub columns: Vec<usize>,
    /// What single lights have besides.
    pub own: OwnFlaws,
    /// Colours before a colour camera's pixels.
    pub pattern: Option<String>,
    /// Do these begin a row later than the header says, by the flat's greens?
    pub shifted: bool,
    /// Shadows of dust in the flat that do not fit the lights, and all that can be seen there.
    pub dust: (usize, usize),
    /// What their values scatter by, where gain and masters tell.
    pub noise: Option<NoiseModel>,
    /// How noisy they are against that.
    pub noise_ratio: Option<f64>,
}

/// What a calibration came to.
pub struct Calibration {
    /// All frames that were read.
    pub raw: Vec<Raw>,
    /// Frames that were taken alike, without the strays.
    pub groups: Vec<Group>,
    /// A name of each.
    pub names: Vec<String>,
    /// Frames of sets that do not belong to them.
    pub left_out: Vec<LeftOut>,
    /// Lights of another target than most.
    pub other_targets: Vec<OtherTarget>,
    /// Files that cannot be used.
    pub spoilt: Vec<Spoilt>,
    /// Masters by the numbers of groups.
    pub masters: Vec<Option<Master>>,
    /// What each group of lights gets.
    pub lights: Vec<LightsGet>,
    /// The layout; none without lights.
    pub layout: Option<Layout>,
}

/// Sorts raw frames, makes the masters that are needed, and lays out the lights with them.
pub fn calibrate(wanted: &CalibrateSettings<'_>, run: &Run<'_>) -> Result<Calibration, Trouble> {
    let gather::Gathered { raw, spoilt } = gather::gather(wanted, run)?;
    let (groups, left_out) = gather::sorted(&raw, run)?;
    let names = named(&groups);
    run.clock.lap("frames");
    let mut needed = needs(&groups);
    settle(&mut needed, &groups, &names, wanted.uses)?;
    let has_lights = groups.iter().any(|g| g.kind == Kind::Light);
    let makes = if has_lights {
        of_lights(&groups, &needed)
    } else {
        // Without lights all that can be made is made, for later nights.
        (0..groups.len()).collect()
    };
    let masters = masters::make(&raw, &groups, &needed, &makes, wanted.library, run)?;
    run.clock.lap("masters");
    let (mut lights, mut rows) =
        lights::lights(&raw, &groups, &names, needed, &masters, wanted, run)?;
    let members: Vec<Vec<usize>> = lights
        .iter()
        .map(|l| groups[l.group].members.clone())
        .collect();
    own::find(&raw, &members, &mut lights, &mut rows, wanted, run)?;
    run.clock.lap("lights");
    let layout = rows
        .first()
        .map(|first| -> Result<Layout, Trouble> {
            let facts = raw.iter().find(|r| name_of(&r.path) == first.file);
            let order = facts.map(|r| r.facts.row_order).unwrap_or_default();
            let canvas = Canvas::new(
                Extent::Reference,
                Grid::REFERENCE,
                first.size,
                order,
                &[(Map::shift(0.0, 0.0), first.size)],
            )
            .map_err(Trouble::Canvas)?;
            Ok(Layout {
                format: FORMAT,
                reference: Reference {
                    file: first.file.clone(),
                    plane: first.plane,
                    why: NOT_CHOSEN.to_owned(),
                },
                canvas,
                wcs: None,
                levels: None,
                mosaic: None,
                frames: rows.clone(),
            })
        })
        .transpose()?;
    let other_targets = other_targets(&raw, &groups);
    Ok(Calibration {
        raw,
        groups,
        names,
        left_out,
        other_targets,
        spoilt,
        masters,
        lights,
        layout,
    })
}

/// Lights of another target than most that name one.
fn other_targets(raw: &[Raw], groups: &[Group]) -> Vec<OtherTarget> {
    let lights = groups.iter().filter(|g| g.kind == Kind::Light);
    let members = lights.flat_map(|g| g.members.iter().copied());
    // Programs and people write one name in several ways.
    let plain = |o: &str| {
        let letters = o.chars().filter(|c| c.is_alphanumeric());
        letters.collect::<String>().to_lowercase()
    };
    let named: Vec<(usize, &String)> = members
        .filter_map(|m| Some((m, raw[m].facts.object.as_ref()?)))
        .collect();
    let count = |name: &str| named.iter().filter(|n| plain(n.1) == plain(name)).count();
    let Some((_, others)) = named.iter().max_by_key(|n| count(n.1)) else {
        return Vec::new();
    };
    named
        .iter()
        .filter(|n| plain(n.1) != plain(others))
        .map(|(frame, is)| OtherTarget {
            frame: *frame,
            is: (*is).clone(),
            others: (*others).clone(),
        })
        .collect()
}

/// What a layout says of its reference where none was chosen yet: who goes on chooses the best.
pub const NOT_CHOSEN: &str = "the first light, until a reference is chosen";

/// Names of groups; those of the same facts are numbered.
fn named(groups: &[Group]) -> Vec<String> {
    let words: Vec<String> = groups.iter().map(Group::word).collect();
    let name = |(i, word): (usize, &String)| {
        let same = |w: &&String| *w == word;
        let before = words[..i].iter().filter(same).count();
        if before > 0 {
            format!("{word}-{}", before + 1)
        } else {
            word.clone()
        }
    };
    words.iter().enumerate().map(name).collect()
}

/// Puts the user's word before what was found.
fn settle(
    needed: &mut [Needs],
    groups: &[Group],
    names: &[String],
    uses: &[(String, String)],
) -> Result<(), Trouble> {
    for (lights, set) in uses {
        let of_name = |name: &str, kinds: &[Kind]| {
            let found = names.iter().position(|n| n == name);
            found
                .filter(|i| kinds.contains(&groups[*i].kind))
                .ok_or_else(|| Trouble::NoSuchGroup {
                    name: name.to_owned(),
                    groups: names.to_vec(),
                })
        };
        let lights = of_name(lights, &[Kind::Light])?;
        let exposure = groups[lights].exposure_s;
        let needs = &mut needed[lights];
        match set.as_str() {
            "no-dark" => needs.dark = None,
            "no-flat" => needs.flat = None,
            "no-bias" => needs.bias = None,
            set => {
                let sets = [Kind::Flat, Kind::Dark, Kind::DarkFlat, Kind::Bias];
                let group = of_name(set, &sets)?;
                match groups[group].kind {
                    Kind::Flat => needs.flat = Some(group),
                    Kind::Bias => needs.bias = Some(group),
                    _ => {
                        let scaled = groups[group].exposure_s != exposure;
                        needs.dark = Some(DarkFor { group, scaled });
                    }
                }
            }
        }
        // What the user has settled is no doubt any more.
        needs.doubts.clear();
    }
    Ok(())
}

/// Sets that lights need, and those that these need.
fn of_lights(groups: &[Group], needed: &[Needs]) -> Vec<usize> {
    let of = |i: usize| {
        let n = &needed[i];
        [n.bias, n.dark.map(|d| d.group), n.flat]
    };
    let lights = (0..groups.len()).filter(|i| groups[*i].kind == Kind::Light);
    let mut used: Vec<usize> = lights.flat_map(of).flatten().collect();
    let behind: Vec<usize> = used.iter().flat_map(|i| of(*i)).flatten().collect();
    used.extend(behind);
    used.sort_unstable();
    used.dedup();
    used
}
