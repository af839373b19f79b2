//! What single lights have besides the flaws of their chip: blooms of full stars, and cosmic rays where they are asked for.
//!
//! Few cameras bloom: some lights of a group are looked at, and all of them only where one of these does. Each light that
//! has such pixels gets a list of its own, beside the layout.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jigsawa_core::calibrate::blooms::blooms;
use jigsawa_core::calibrate::defects::{Defects, Flaw, Flawed, STANDING, usual_standing};
use jigsawa_core::calibrate::rays::rays;
use jigsawa_core::calibrate::set::SetNoise;
use jigsawa_core::calibrate::strays::Levels;
use jigsawa_core::layout::LayoutFrame;
use jigsawa_core::number::Convert;
use rayon::prelude::*;

use super::raw::Raw;
use super::{CalibrateSettings, LightsGet};
use crate::foreign::name_of;
use crate::outputs::{filled, make_folder};
use crate::pixels::{Calibrating, Masters, in_memory, written_defects};
use crate::run::Run;
use crate::trouble::Trouble;

/// The folder of such lists among the results.
const FOLDER: &str = "flaws";

/// So many lights of a group tell whether its camera blooms.
const LOOKED_AT: usize = 5;

/// What ran over is full up to this part of it.
const NEARLY_FULL: f32 = 0.97;

/// A light that is looked through.
struct Light<'a> {
    raw: &'a Raw,
    /// The first of its rows: a colour camera's file has three.
    row: usize,
    saturation: Option<f32>,
    calibrating: Arc<Calibrating>,
}

/// Looks for blooms, and for rays if they are wanted; lists them in the rows of each light, and counts them.
pub(super) fn find(
    raw: &[Raw],
    members: &[Vec<usize>],
    lights: &mut [LightsGet],
    rows: &mut [LayoutFrame],
    wanted: &CalibrateSettings<'_>,
    run: &Run<'_>,
) -> Result<(), Trouble> {
    let mut of_file: HashMap<String, Vec<usize>> = HashMap::new();
    for (i, row) in rows.iter().enumerate() {
        of_file.entry(row.file.clone()).or_default().push(i);
    }
    let mut masters = Masters::default();
    for (get, members) in lights.iter_mut().zip(members) {
        let mut all = Vec::new();
        for m in members {
            let rows_of = of_file.get(&name_of(&raw[*m].path)).and_then(|r| r.first());
            let Some(row) = rows_of.copied() else {
                continue;
            };
            let Some(record) = &rows[row].calibration else {
                continue;
            };
            all.push(Light {
                raw: &raw[*m],
                row,
                saturation: rows[row].saturation,
                calibrating: masters.open(record, rows[row].size)?,
            });
        }
        // Behind a colour camera's pattern a star's own pixels are as sharp as a ray.
        let with_rays = wanted.rays && get.pattern.is_none();
        get.own.refused = wanted.rays && !with_rays;
        let some = all.len().div_ceil(LOOKED_AT).max(1);
        let bloom = |l: &Light<'_>| Ok::<_, Trouble>(!l.blooms()?.is_empty());
        let tried: Result<Vec<bool>, Trouble> = all.par_iter().step_by(some).map(bloom).collect();
        let with_blooms = tried?.contains(&true);
        if !with_rays && !with_blooms {
            continue;
        }
        let progress = run.begin("flaws of lights", all.len());
        let found: Result<Vec<Vec<Flawed>>, Trouble> = all
            .par_iter()
            .map(|l| {
                let mut flawed = if with_blooms { l.blooms()? } else { Vec::new() };
                if with_rays {
                    flawed.extend(l.rays()?);
                }
                progress.step();
                Ok(flawed)
            })
            .collect();
        for (light, flawed) in all.iter().zip(found?) {
            let listed = Defects::new(light.raw.facts.size, flawed);
            if listed.is_empty() {
                continue;
            }
            get.own.frames += 1;
            get.own.rays += listed.count(Flaw::Ray);
            get.own.blooms += listed.count(Flaw::Bloom);
            let path = written(&listed, &light.raw.path, wanted.out)?;
            for row in &of_file[&rows[light.row].file] {
                if let Some(record) = &mut rows[*row].calibration {
                    record.own_defects = Some(name_of(&path));
                }
            }
        }
    }
    Ok(())
}

impl Light<'_> {
    fn blooms(&self) -> Result<Vec<Flawed>, Trouble> {
        let Some(full) = self.saturation else {
            return Ok(Vec::new());
        };
        let pixels = self.calibrating.chip_pixels(&self.raw.file);
        blooms(&pixels, NEARLY_FULL * full).map_err(|e| self.unreadable(&e))
    }

    fn rays(&self) -> Result<Vec<Flawed>, Trouble> {
        let unreadable = |e| self.unreadable(&e);
        // Read once: it is gone through several times.
        let pixels =
            in_memory(&self.calibrating.chip_pixels(&self.raw.file)).map_err(unreadable)?;
        let level = Levels::measure(&pixels).map_err(unreadable)?;
        let sigma = usual_standing(&pixels).map_err(unreadable)? / STANDING;
        let gain = match self.calibrating.record.gain_e_adu {
            Some(_) => Some(1.0),
            None => self.raw.facts.gain_e_adu,
        };
        let noise = SetNoise {
            level: level.map_or(0.0, |l| l.median),
            sigma,
            of_light: gain.map_or(0.0, |g| (1.0 / g).single()),
        };
        let full = self.saturation.unwrap_or(f32::INFINITY);
        rays(&pixels, &noise, full).map_err(unreadable)
    }

    fn unreadable(&self, error: &jigsawa_core::doors::DoorError) -> Trouble {
        Trouble::Unreadable {
            file: name_of(&self.raw.path),
            error: error.to_string(),
        }
    }
}

/// Writes a light's list; one that is there already was found in the same light, and may have been edited.
fn written(listed: &Defects, light: &Path, out: &Path) -> Result<PathBuf, Trouble> {
    let folder = out.join(FOLDER);
    make_folder(&folder)?;
    let text = written_defects(listed);
    // Two nights may have a light of the same name.
    let mark = blake3::hash(format!("{}\n{text}", light.display()).as_bytes());
    let stem = light
        .file_stem()
        .map_or("light".into(), |s| s.to_string_lossy());
    let path = folder.join(format!("{stem}-{}.csv", &mark.to_hex()[..8]));
    if !path.exists() {
        let file = filled(&path, text.as_bytes(), true)?;
        file.finish().map_err(|error| Trouble::Write {
            file: path.clone(),
            error,
        })?;
    }
    Ok(path)
}
