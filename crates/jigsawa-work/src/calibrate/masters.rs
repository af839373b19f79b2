//! Masters of sets: averaged, or found in the library.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jigsawa_core::calibrate::average::Set;
use jigsawa_core::calibrate::defects::{Defects, Flaw, Flawed, of_dark, of_flat, wavers};
use jigsawa_core::calibrate::group::Group;
use jigsawa_core::calibrate::light::{Calibrated, Calibration, Dark};
use jigsawa_core::calibrate::needs::Needs;
use jigsawa_core::calibrate::pattern::{PerCell, cell_medians};
use jigsawa_core::calibrate::set::SetNoise;
use jigsawa_core::calibrate::strays::Levels;
use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_core::frame::Kind;
use jigsawa_core::number::Convert;
use jigsawa_formats::fits::{Cards, Depth, FitsFrame, FitsPlane, FitsWriter};

use super::library;
use super::raw::Raw;
use crate::foreign::name_of;
use crate::outputs::{begin, creator_card, filled, make_folder};
use crate::pixels::{read_defects, written_defects};
use crate::run::Run;
use crate::trouble::Trouble;

/// A master.
pub struct Master {
    /// Its file.
    pub path: PathBuf,
    /// The open file.
    pub file: Arc<FitsFrame>,
    /// Its values.
    pub levels: Levels,
    /// Noise of a pixel of it: that of a frame over the root of their number; 0 where a single frame tells none.
    pub noise: f32,
    /// Noise of a single frame.
    pub frame_noise: f32,
    /// Frames in it; of a library's master what its header says.
    pub frames: usize,
    /// Values that were left out, in per cent; none where it was not made in this run.
    pub clipped_percent: Option<f64>,
    /// What is wrong with its pixels.
    pub flaws: Vec<Flawed>,
}

/// A frame of a set, freed of what is there without light where that is to be.
type Freed<'a> = Calibrated<FitsPlane<'a>, Arc<Defects>>;

/// Makes the masters of the groups that are listed, those first that others need.
pub(super) fn make(
    raw: &[Raw],
    groups: &[Group],
    needed: &[Needs],
    list: &[usize],
    library: &Path,
    run: &Run<'_>,
) -> Result<Vec<Option<Master>>, Trouble> {
    let mut masters: Vec<Option<Master>> = groups.iter().map(|_| None).collect();
    let sets = |flats: bool| {
        let is = move |i: &&usize| (groups[**i].kind == Kind::Flat) == flats;
        list.iter().copied().filter(move |i| is(&i))
    };
    let progress = run.begin("masters", list.len());
    for i in sets(false).chain(sets(true)) {
        if groups[i].kind == Kind::Light {
            continue;
        }
        let making = Making {
            raw,
            group: &groups[i],
            needs: &needed[i],
            masters: &masters,
            library,
        };
        masters[i] = Some(making.master()?);
        progress.step();
    }
    Ok(masters)
}

/// A master in the making.
struct Making<'a> {
    raw: &'a [Raw],
    group: &'a Group,
    needs: &'a Needs,
    masters: &'a [Option<Master>],
    library: &'a Path,
}

impl<'a> Making<'a> {
    /// Frames in the master; of another program's what its header says.
    fn count(&self) -> f64 {
        let first = &self.raw[self.group.members[0]];
        let told = first.file.header().number("NCOMBINE");
        let told = told.filter(|_| self.group.master);
        told.unwrap_or_else(|| self.group.members.len().real())
    }

    fn frames(&self) -> impl Iterator<Item = &'a Raw> + '_ {
        self.group.members.iter().map(|m| &self.raw[*m])
    }

    /// The master of a group that this one needs.
    fn other(&self, group: Option<usize>) -> Option<&'a Master> {
        self.masters[group?].as_ref()
    }

    fn bias(&self) -> Option<&'a Master> {
        self.other(self.needs.bias)
    }

    fn dark(&self) -> Option<&'a Master> {
        self.other(self.needs.dark.map(|d| d.group))
    }

    fn master(&self) -> Result<Master, Trouble> {
        let first = &self.raw[self.group.members[0]];
        if self.group.master {
            let unknown = SetNoise {
                level: 0.0,
                sigma: 0.0,
                of_light: 0.0,
            };
            let mut master = self.opened(first.path.clone(), None, unknown)?;
            master.flaws.extend(kept_wavering(&first.path)?);
            // Another program's flat may have any level: a copy is brought to 1, as ours are.
            let is_level = (master.levels.median - 1.0).abs() < LEVEL;
            if self.group.kind != Kind::Flat || is_level {
                return Ok(master);
            }
        }
        let with = [self.bias(), self.dark()].into_iter().flatten();
        let mark = library::mark(self.frames(), with.map(|m| m.path.as_path()));
        let path = self
            .library
            .join(format!("{}-{mark}.fits", self.group.word()));
        let unreadable = |e: DoorError| Trouble::Unreadable {
            file: self.group.word(),
            error: e.to_string(),
        };
        let freed = self.freed().map_err(unreadable)?;
        let sources: Vec<&dyn FrameSource> =
            freed.iter().map(|f| &f.0 as &dyn FrameSource).collect();
        // In a levelled flat a unit is all its light.
        let unit = freed.iter().map(|f| f.1).sum::<f64>() / freed.len().real();
        let gain = first.facts.gain_e_adu.map(|g| g * unit);
        let noise = SetNoise::measure(&sources, gain).map_err(unreadable)?;
        if library::has(&path, &mark) {
            let mut master = self.opened(path, None, noise)?;
            master.flaws.extend(kept_wavering(&master.path)?);
            return Ok(master);
        }
        make_folder(self.library)?;
        let (clipped, flaws) = self.average(&sources, noise, &path, &mark)?;
        let mut master = self.opened(path, Some(clipped), noise)?;
        if !flaws.is_empty() {
            // What a later run cannot see in the mean.
            let listed = Defects::new(first.facts.size, flaws.clone());
            let wavering = master.path.with_extension(WAVERING);
            let file = filled(&wavering, written_defects(&listed).as_bytes(), true)?;
            file.finish().map_err(|error| Trouble::Write {
                file: wavering.clone(),
                error,
            })?;
        }
        master.flaws.extend(flaws);
        Ok(master)
    }

    /// The frames as they are averaged, and what each was divided by: flats are freed of bias or dark-flat, and brought to a
    /// middle of 1, each colour of a colour camera's by itself, so that a flat's own colour stays out of the lights.
    fn freed(&self) -> Result<Vec<(PerCell<Freed<'a>>, f64)>, DoorError> {
        let is_flat = self.group.kind == Kind::Flat;
        let one = |r: &'a Raw| {
            let source = Calibrated::new(
                r.file.plane(0),
                Calibration {
                    bias: self.bias().filter(|_| is_flat).map(|m| m.file.plane(0)),
                    dark: self.dark().filter(|_| is_flat).map(|m| Dark {
                        master: m.file.plane(0),
                        factor: 1.0,
                        glow: None,
                    }),
                    ..Calibration::default()
                },
            );
            if !is_flat {
                let factors = [1.0; 4];
                return Ok((PerCell { source, factors }, 1.0));
            }
            let levels = if self.group.setup.pattern.is_some() {
                cell_medians(&source)?
            } else {
                [Levels::measure(&source)?.map_or(1.0, |l| l.median); 4]
            };
            let lit = |l: f32| if l > 0.0 { l } else { 1.0 };
            let factors = levels.map(|l| 1.0 / lit(l));
            let light = levels.map(|l| f64::from(lit(l))).iter().sum::<f64>() / 4.0;
            Ok((PerCell { source, factors }, light))
        };
        self.frames().map(one).collect()
    }

    /// Averages the frames into the library. What is wavering in darks is found on the way.
    fn average(
        &self,
        sources: &[&dyn FrameSource],
        noise: SetNoise,
        path: &Path,
        mark: &str,
    ) -> Result<(f64, Vec<Flawed>), Trouble> {
        let size = sources[0].size();
        let wrong = |error| Trouble::Write {
            file: path.to_owned(),
            error,
        };
        let file = begin(path, true)?;
        let mut out =
            FitsWriter::create(file, size, 1, Depth::Float, &self.cards(mark)).map_err(wrong)?;
        let set = Set {
            frames: sources,
            noise,
        };
        let (mut clipped, mut flaws) = (0usize, Vec::new());
        let is_dark = matches!(self.group.kind, Kind::Dark);
        set.average(|band| -> Result<(), DoorError> {
            clipped += band.clipped;
            if is_dark {
                let both = band.mean.iter().zip(&band.scatter).enumerate();
                let bad = both.filter(|(_, (m, s))| wavers(**m, **s, sources.len(), &noise));
                flaws.extend(bad.map(|(i, _)| {
                    let y = band.rect.y.index() + i / size.width();
                    (i % size.width(), y, Flaw::Wavering)
                }));
            }
            out.put(band.rect, &[&band.mean])
        })
        .map_err(|e| Trouble::Merge {
            message: format!("the master '{}' cannot be made: {e}", path.display()),
            file: Some(name_of(path)),
        })?;
        let done = out.complete().map_err(wrong)?;
        done.finish().map_err(wrong)?;
        let all = (size.area() * sources.len()).real();
        Ok((100.0 * clipped.real() / all, flaws))
    }

    /// A master that is there, with the flaws that it shows.
    fn opened(
        &self,
        path: PathBuf,
        clipped_percent: Option<f64>,
        noise: SetNoise,
    ) -> Result<Master, Trouble> {
        let file = FitsFrame::open(&path).map_err(|e| Trouble::Files(vec![(path.clone(), e)]))?;
        let unreadable = |e: DoorError| Trouble::Unreadable {
            file: name_of(&path),
            error: e.to_string(),
        };
        let plane = file.plane(0);
        let levels = Levels::measure(&plane).map_err(unreadable)?;
        let flaws = match self.group.kind {
            Kind::Dark => of_dark(&plane, &noise),
            Kind::Flat => of_flat(&plane),
            _ => Ok(Vec::new()),
        }
        .map_err(unreadable)?;
        let frames = file.header().number("NCOMBINE").map_or(1, Convert::index);
        Ok(Master {
            levels: levels.unwrap_or(Levels {
                median: 0.0,
                sigma: 0.0,
                high: 0.0,
            }),
            noise: noise.sigma / frames.max(1).single().sqrt(),
            frame_noise: noise.sigma,
            frames,
            clipped_percent,
            flaws,
            path,
            file: Arc::new(file),
        })
    }

    /// What a later night needs to know of the master.
    fn cards(&self, mark: &str) -> Cards {
        let (g, first) = (self.group, &self.raw[self.group.members[0]].facts);
        let mut cards = Cards::default();
        let kind = match g.kind {
            Kind::Bias => "Master Bias",
            Kind::Dark => "Master Dark",
            Kind::DarkFlat => "Master Dark Flat",
            Kind::Flat | Kind::Light => "Master Flat",
        };
        cards.text("IMAGETYP", kind, "");
        let word = g.filter.as_ref().map(|f| f.name().to_owned());
        let filter = word.or_else(|| g.filter_card.clone());
        for (name, value) in [
            ("FILTER", filter.as_deref()),
            ("INSTRUME", first.camera.as_deref()),
            ("READOUTM", first.readout.as_deref()),
            ("BAYERPAT", first.colour_pattern.as_deref()),
            ("DATE-OBS", first.date.as_deref()),
            (library::MARK, Some(mark)),
        ] {
            if let Some(value) = value {
                cards.text(name, value, "");
            }
        }
        let (bx, by) = g.setup.binning;
        for (name, value) in [
            ("EXPTIME", g.exposure_s),
            ("SET-TEMP", g.celsius),
            ("GAIN", first.gain_setting),
            ("ISOSPEED", first.iso),
            ("OFFSET", first.offset_setting),
            ("EGAIN", first.gain_e_adu.filter(|_| g.kind != Kind::Flat)),
            ("ROTATANG", g.rotator_deg),
            ("XBINNING", Some(f64::from(bx))),
            ("YBINNING", Some(f64::from(by))),
            ("NCOMBINE", Some(self.count())),
        ] {
            if let Some(value) = value {
                cards.number(name, value, "");
            }
        }
        let order = match first.row_order {
            jigsawa_core::frame::RowOrder::BottomUp => "BOTTOM-UP",
            jigsawa_core::frame::RowOrder::TopDown => "TOP-DOWN",
        };
        cards.text("ROWORDER", order, "");
        creator_card(&mut cards);
        for m in [self.bias(), self.dark()].into_iter().flatten() {
            cards.history(&format!("less {}", file_name(&m.path)));
        }
        for r in self.frames() {
            cards.history(&file_name(&r.path));
        }
        cards
    }
}

/// A file's own name.
fn file_name(path: &Path) -> String {
    name_of(path.file_name().map_or(path, Path::new))
}

/// A flat whose middle is nearer to 1 than this is level: the middle of a sample is not quite that of all.
const LEVEL: f32 = 0.1;

/// The ending of the list of wavering pixels beside a dark master.
const WAVERING: &str = "wavering.csv";

/// What wavered when a master was made.
fn kept_wavering(master: &Path) -> Result<Vec<Flawed>, Trouble> {
    let list = master.with_extension(WAVERING);
    if list.exists() {
        read_defects(&list)
    } else {
        Ok(Vec::new())
    }
}
