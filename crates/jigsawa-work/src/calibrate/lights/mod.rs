//! Lights with what each of them needs: measured where it must be, and as records of a layout.

mod glow;
mod noise;

use jigsawa_core::calibrate::defects::{Defects, Flaw, of_lights};
use jigsawa_core::calibrate::dust::{Mote, left, motes};
use jigsawa_core::calibrate::full::full;
use jigsawa_core::calibrate::group::Group;
use jigsawa_core::calibrate::needs::Needs;
use jigsawa_core::calibrate::pattern::{Pattern, cell_medians, greens_first};
use jigsawa_core::calibrate::record::{CalibrationRecord, DarkRecord};
use jigsawa_core::calibrate::scaling::HotPixels;
use jigsawa_core::calibrate::strays::{Levels, Misfit, misfit};
use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::filter::Filter;
use jigsawa_core::frame::Kind;
use jigsawa_core::layout::{LayoutFrame, Measurements};
use jigsawa_core::measured::Measured;
use jigsawa_core::number::Convert;
use jigsawa_core::robust::median;
use jigsawa_core::space::Size;
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::fingerprint;
use rayon::prelude::*;

use super::masters::Master;
use super::raw::Raw;
use super::{CalibrateSettings, LightsGet, OwnFlaws};
use crate::foreign::name_of;
use crate::outputs::{filled, make_folder};
use crate::pixels::{Masters, written_defects};
use crate::run::Run;
use crate::trouble::Trouble;

/// Lights of a group on which a dark's part is measured, or hot pixels are looked for, spread over the night.
const MEASURED: usize = 7;

/// No part is known better than this, relative to it: on the made-up chip, where all is as assumed, it comes out lower by
/// half of it.
const LEAST_SIGMA: f64 = 0.001;

/// A part that is known worse than this, relative to it, would add more than it takes off.
const SURE: f64 = 0.1;

/// The deepest shadows of a flat are held against the lights; one that is known to this part of its depth is seen, and does
/// not fit from that part on: nebulae lie behind dust, too.
const MOST_DUST: usize = 12;
const SEEN: f64 = 0.15;
const MISFIT: f32 = 0.6;

/// What each group of lights gets, and its lights as rows of a layout.
pub(super) fn lights(
    raw: &[Raw],
    groups: &[Group],
    names: &[String],
    needed: Vec<Needs>,
    masters: &[Option<Master>],
    wanted: &CalibrateSettings<'_>,
    run: &Run<'_>,
) -> Result<(Vec<LightsGet>, Vec<LayoutFrame>), Trouble> {
    let is_lights = |i: &usize| groups[*i].kind == Kind::Light;
    let count = (0..groups.len()).filter(is_lights).count();
    let progress = run.begin("lights", count);
    let (mut get, mut rows) = (Vec::new(), Vec::new());
    for (i, needs) in needed.into_iter().enumerate().filter(|(i, _)| is_lights(i)) {
        let told = groups[i].setup.pattern.as_deref();
        let mut group = Lights {
            raw,
            group: &groups[i],
            masters,
            pattern: told.and_then(Pattern::from_letters),
        };
        let shifted = group.settle_pattern(&needs, groups)?;
        let found = group.found(needs)?;
        let defects = group.defects(&found)?;
        let listed = if defects.is_empty() {
            None
        } else {
            make_folder(wanted.library)?;
            let text = written_defects(&defects);
            let mark = blake3::hash(text.as_bytes()).to_hex()[..12].to_owned();
            let path = wanted.library.join(format!("defects-{mark}.csv"));
            // The same list has the same name: one that is there stays, with what its user may have changed.
            if !path.exists() {
                let file = filled(&path, text.as_bytes(), true)?;
                file.finish().map_err(|error| Trouble::Write {
                    file: path.clone(),
                    error,
                })?;
            }
            Some(name_of(&path))
        };
        tracing::info!("{}: {} pixels are made up", names[i], defects.len());
        let record = group.record(&found, listed);
        let dust = group.misfits(&found, &record)?;
        let noise_ratio = group.noise_ratio(&record)?;
        rows.extend(group.rows(&found, &record)?);
        get.push(LightsGet {
            group: i,
            factor: found.factor,
            glow: found.glow,
            refused: found.refused,
            misfit: found.misfit,
            defects: Flaw::ALL
                .map(|f| (f.name(), defects.count(f)))
                .into_iter()
                .filter(|d| d.1 > 0)
                .collect(),
            columns: defects.columns(),
            own: OwnFlaws::default(),
            pattern: group.pattern.map(Pattern::letters),
            shifted,
            dust,
            noise: record.noise,
            noise_ratio,
            needs: found.needs,
        });
        progress.step();
    }
    Ok((get, rows))
}

/// A group of lights.
struct Lights<'a> {
    raw: &'a [Raw],
    group: &'a Group,
    masters: &'a [Option<Master>],
    /// Colours before its pixels.
    pattern: Option<Pattern>,
}

/// What was found for it.
struct Found {
    needs: Needs,
    factor: Option<Measured>,
    /// The part of the dark's glow that the lights have, where the dark has another temperature.
    glow: Option<Measured>,
    refused: bool,
    misfit: Option<Misfit>,
}

impl<'a> Lights<'a> {
    fn master(&self, group: Option<usize>) -> Option<&'a Master> {
        self.masters[group?].as_ref()
    }

    fn first(&self) -> &'a Raw {
        &self.raw[self.group.members[0]]
    }

    fn size(&self) -> Size {
        self.first().facts.size
    }

    /// Some of its lights, spread over the night.
    fn some(&self) -> Vec<&'a Raw> {
        let all = &self.group.members;
        let n = all.len().min(MEASURED);
        (0..n)
            .map(|k| &self.raw[all[(2 * k + 1) * all.len() / (2 * n)]])
            .collect()
    }

    fn unreadable(&self) -> impl Fn(DoorError) -> Trouble + 'a {
        let file = name_of(&self.first().path);
        move |e| Trouble::Unreadable {
            file: file.clone(),
            error: e.to_string(),
        }
    }

    /// Greens must be alike in a flat: where those of the pattern are not and the others are, the pattern begins a row later,
    /// as where a file's rows were turned over. Returns whether that is so.
    fn settle_pattern(&mut self, needs: &Needs, groups: &[Group]) -> Result<bool, Trouble> {
        let (Some(pattern), Some(flat)) = (self.pattern, needs.flat) else {
            return Ok(false);
        };
        let members = groups[flat].members.iter();
        let Some(raw) = members.map(|m| &self.raw[*m]).find(|r| !r.facts.master) else {
            return Ok(false);
        };
        let medians = cell_medians(&raw.file.plane(0)).map_err(self.unreadable())?;
        // What is there without light is alike for all, and small against a flat.
        let lowest = self
            .master(needs.bias)
            .or(self.master(needs.dark.map(|d| d.group)));
        let empty = lowest.map_or(0.0, |m| m.levels.median);
        let shifted = greens_first(medians.map(|m| m - empty))
            .is_some_and(|first| first != pattern.green_first());
        if shifted {
            self.pattern = Some(pattern.moved(0, 1));
        }
        Ok(shifted)
    }

    /// Measures the part of the dark that the lights have. A dark that must be scaled is refused where that is not known.
    fn found(&self, mut needs: Needs) -> Result<Found, Trouble> {
        let misfit = self.without_misfits(&mut needs)?;
        let Some(dark) = needs.dark else {
            return Ok(Found {
                needs,
                factor: None,
                glow: None,
                refused: false,
                misfit,
            });
        };
        let factor = match self.master(Some(dark.group)) {
            Some(master) => self.factor(master)?,
            None => None,
        };
        let sure = factor.is_some_and(|f| f.value > 0.0 && f.sigma < SURE * f.value);
        let refused = dark.scaled && !sure;
        if refused {
            needs.dark = None;
        }
        let glow = match factor.filter(|_| dark.scaled && sure) {
            Some(factor) => self.part_of_glow(&needs, dark, factor.value)?,
            None => None,
        };
        Ok(Found {
            needs,
            factor,
            glow,
            refused,
            misfit,
        })
    }

    /// Leaves out a dark or a bias that takes off what the lights cannot have. Returns why.
    fn without_misfits(&self, needs: &mut Needs) -> Result<Option<Misfit>, Trouble> {
        let some = self.some();
        let light = Levels::measure(&some[some.len() / 2].file.plane(0));
        let Some(light) = light.map_err(self.unreadable())? else {
            return Ok(None);
        };
        let of = |group: Option<usize>| misfit(&self.master(group)?.levels, &light);
        let (dark, bias) = (of(needs.dark.map(|d| d.group)), of(needs.bias));
        if dark.is_some() {
            needs.dark = None;
        }
        if bias.is_some() {
            needs.bias = None;
            // What is scaled needs it.
            needs.dark = needs.dark.filter(|d| !d.scaled);
        }
        Ok(dark.or(bias))
    }

    /// The middle of the parts that some lights have.
    fn factor(&self, dark: &Master) -> Result<Option<Measured>, Trouble> {
        let full = self.first().full().unwrap_or(f32::INFINITY);
        let hot = HotPixels::of(&dark.file.plane(0), full).map_err(self.unreadable())?;
        let parts: Result<Vec<Option<Measured>>, DoorError> = self
            .some()
            .par_iter()
            .map(|r| hot.factor(&r.file.plane(0), full))
            .collect();
        let parts: Vec<Measured> = parts
            .map_err(self.unreadable())?
            .into_iter()
            .flatten()
            .collect();
        if parts.is_empty() {
            return Ok(None);
        }
        let mut values: Vec<f32> = parts.iter().map(|p| p.value.single()).collect();
        let mut sigmas: Vec<f32> = parts.iter().map(|p| p.sigma.single()).collect();
        let value = f64::from(median(&mut values));
        // The dark's own noise is the same for all lights.
        let one = f64::from(median(&mut sigmas));
        let counts = 1.0 / parts.len().real() + 1.0 / dark.frames.max(1).real();
        let sigma = (one * counts.sqrt()).hypot(LEAST_SIGMA * value);
        Ok(Some(Measured { value, sigma }))
    }

    /// The flawed pixels of dark and flat; without a dark those that stand alone in the lights.
    fn defects(&self, found: &Found) -> Result<Defects, Trouble> {
        let dark = self.master(found.needs.dark.map(|d| d.group));
        let flat = self.master(found.needs.flat);
        let mut all = Vec::new();
        if let Some(dark) = dark {
            all.extend(dark.flaws.iter().copied());
        } else {
            let some = self.some();
            let planes: Vec<_> = some.iter().map(|r| r.file.plane(0)).collect();
            let sources: Vec<&dyn FrameSource> =
                planes.iter().map(|p| p as &dyn FrameSource).collect();
            all.extend(of_lights(&sources).map_err(self.unreadable())?);
        }
        all.extend(flat.iter().flat_map(|f| f.flaws.iter().copied()));
        Ok(Defects::new(self.size(), all))
    }

    /// The value of a full pixel as its lights show it, where no header says it.
    fn seen_full(&self) -> Result<Option<f32>, Trouble> {
        if self.first().facts.saturation.is_some() {
            return Ok(None);
        }
        let some = self.some();
        let planes: Vec<_> = some.iter().map(|r| r.file.plane(0)).collect();
        let sources: Vec<&dyn FrameSource> = planes.iter().map(|p| p as &dyn FrameSource).collect();
        full(&sources).map_err(self.unreadable())
    }

    /// What its lights need, as a layout keeps it.
    fn record(&self, found: &Found, defects: Option<String>) -> CalibrationRecord {
        let needs = &found.needs;
        let scaled = needs.dark.is_some_and(|d| d.scaled);
        let dark = self.master(needs.dark.map(|d| d.group));
        let flat = self.master(needs.flat);
        let bias = self.master(needs.bias);
        CalibrationRecord {
            bias: bias.map(|m| name_of(&m.path)),
            dark: dark.map(|m| DarkRecord {
                file: name_of(&m.path),
                factor: found.factor.filter(|_| scaled),
                glow: found.glow.map(|g| g.value),
            }),
            flat: flat.map(|m| name_of(&m.path)),
            defects,
            own_defects: None,
            pattern: self.pattern.map(Pattern::letters),
            gain_e_adu: self.first().facts.gain_e_adu,
            noise: self.noise(found),
        }
    }

    /// How many of the deeper shadows in the flat do not fit the lights, of how many that can be seen there.
    fn misfits(
        &self,
        found: &Found,
        record: &CalibrationRecord,
    ) -> Result<(usize, usize), Trouble> {
        let Some(flat) = self.master(found.needs.flat) else {
            return Ok((0, 0));
        };
        // With its pedestal on, no light fits its flat.
        if record.dark.is_none() && record.bias.is_none() {
            return Ok((0, 0));
        }
        let read = flat.file.read_plane(0, Vec::new());
        let plane = read.map_err(|e| Trouble::Files(vec![(flat.path.clone(), e)]))?;
        let mut dust = motes(&plane);
        dust.truncate(MOST_DUST);
        let calibrating = Masters::default().open(record, self.size())?;
        let lights = self.some();
        let left = |mote: &Mote| -> Result<Option<bool>, DoorError> {
            let parts: Result<Vec<Option<Measured>>, DoorError> = lights
                .iter()
                .map(|r| left(&calibrating.read_through(&r.file, 1), mote))
                .collect();
            let parts: Vec<Measured> = parts?.into_iter().flatten().collect();
            let mut values: Vec<f32> = parts.iter().map(|p| p.value.single()).collect();
            let variance: f64 = parts.iter().map(|p| p.sigma * p.sigma).sum();
            let sigma = variance.sqrt() / parts.len().real();
            let seen = !parts.is_empty() && sigma < SEEN;
            Ok(seen.then(|| median(&mut values).abs() > MISFIT))
        };
        let all: Result<Vec<Option<bool>>, DoorError> = dust.par_iter().map(left).collect();
        let all: Vec<bool> = all
            .map_err(self.unreadable())?
            .into_iter()
            .flatten()
            .collect();
        Ok((all.iter().filter(|m| **m).count(), all.len()))
    }

    /// The lights as rows of a layout.
    fn rows(&self, found: &Found, record: &CalibrationRecord) -> Result<Vec<LayoutFrame>, Trouble> {
        let needs = &found.needs;
        let dark = self.master(needs.dark.map(|d| d.group));
        let flat = self.master(needs.flat);
        let bias = self.master(needs.bias);
        let gain = record.gain_e_adu;
        let empty = dark.or(bias).map_or(0.0, |m| m.levels.median);
        let brightest = match flat {
            Some(m) => brightest(m).map_err(self.unreadable())?,
            None => 1.0,
        };
        let seen = self.seen_full()?;
        let full = |r: &Raw| {
            let full = r.facts.saturation.or(seen).or_else(|| r.full())?;
            Some(FULL * (full - empty) / brightest * gain.unwrap_or(1.0).single())
        };
        let word = |r: &Raw| {
            let card = r.facts.filter_card.clone();
            let other = || Filter::Other(card.unwrap_or_else(|| "unknown".to_owned()));
            r.facts.filter.clone().unwrap_or_else(other)
        };
        let row = |(m, plane): (usize, Option<usize>)| {
            let r = &self.raw[m];
            LayoutFrame {
                file: name_of(&r.path),
                plane,
                filter: plane.map_or_else(|| word(r), |p| COLOURS[p].clone()),
                exposure_s: r.facts.exposure_s,
                size: r.facts.size,
                saturation: full(r),
                fingerprint: fingerprint::of_file(&r.path).ok(),
                hint: None,
                verdict: Verdict::Used,
                facts: r.facts.notes(),
                notes: Vec::new(),
                panel: None,
                calibration: Some(record.clone()),
                measured: Measurements::NONE,
                placement: None,
                balance: None,
            }
        };
        // Of a colour camera's file three frames.
        let planes: &[Option<usize>] = if self.pattern.is_some() {
            &[Some(0), Some(1), Some(2)]
        } else {
            &[None]
        };
        let members = self.group.members.iter();
        let all: Vec<(usize, Option<usize>)> = members
            .flat_map(|m| planes.iter().map(move |p| (*m, *p)))
            .collect();
        Ok(all.into_par_iter().map(row).collect())
    }
}

/// What the planes of a colour camera's frame show.
const COLOURS: [Filter; 3] = [Filter::R, Filter::G, Filter::B];

/// Above this part of the full value a pixel counts as full: a camera's last per cent is not linear.
const FULL: f32 = 0.98;

/// The flat where it is brightest: what is full there has the least light.
fn brightest(flat: &Master) -> Result<f32, DoorError> {
    let levels = Levels::measure(&flat.file.plane(0))?;
    Ok(levels.map_or(1.0, |l| l.high).max(0.1))
}
