//! `jigsawa run`: from whatever is there to finished pictures; again, only what has changed.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use jigsawa_formats::inputs;
use jigsawa_work::clock::{Clock, Output};
use jigsawa_work::foreign::name_of;
use jigsawa_work::layout_file;
use jigsawa_work::outputs::{at_step, filled, slug};
use jigsawa_work::trouble::Trouble;

use super::perform::{Done, perform, updates};
use super::project::{Project, project};
use crate::account::{Ran, RunAccount, StepRow, StepState};
use crate::cli::{Common, RunArgs};
use crate::recipe::{Recipe, written};
use crate::report::{IndexEntry, write_index};
use crate::steps::{
    Field, Found, Input, Lock, Plan, State, Step, StepRecord, by_headers, by_stars, contents,
    estimate, plan, settings, with_survey,
};
use crate::tell::{gathered, sentence};
use crate::terminal::{begin_step, complain, duration};

/// The page with everything to look at, and the recipe.
const PAGE: &str = "index.html";
const RECIPE: &str = "jigsawa.toml";

/// Brings all results up to date once.
pub fn once(args: &RunArgs, common: &Common) -> Result<RunAccount, Trouble> {
    let clock = Clock::start();
    let project = project(&args.what)?;
    let common = &project.common(common)?;
    let folder = project.folder();
    let _lock = Lock::take(&folder)?;
    let mut state = State::read(&folder);
    refuse_edited(&project, &state, &folder, args.overwrite)?;
    let (found, plan) = planned(&project, &mut state, args, common, &clock)?;
    // Whatever ends this run, the next one may go by its recipe.
    let recipe = keep_recipe(&project, &plan, &mut state, &folder)?;
    let mut work = Work {
        folder: &folder,
        found: &found,
        state: &mut state,
        again: &args.again,
        overwrite: args.overwrite,
        common,
        rows: Vec::new(),
        better: Vec::new(),
        warnings: Vec::new(),
        outputs: Vec::new(),
    };
    let ended = work.all(&plan, &clock);
    let Work {
        rows,
        better,
        warnings,
        mut outputs,
        ..
    } = work;
    let mut ran = Ran {
        name: plan.name.clone(),
        recipe: Some(name_of(&recipe)),
        decided: plan.decided.clone(),
        doubts: plan.doubts.clone(),
        steps: rows,
        better,
        about_s: None,
        about_mb: None,
        spoilt: found.spoilt.clone(),
    };
    if let Err(trouble) = ended {
        // What is done is shown all the same.
        let _ = page(&folder, &ran, &state, &plan, args.watch);
        summary(&ran, &trouble, common);
        return Err(trouble);
    }
    state.write(&folder)?;
    page(&folder, &ran, &state, &plan, args.watch)?;
    clock.lap("page");
    // The page to look at comes first.
    let output = |path: &Path, kind| Output {
        file: name_of(path),
        kind,
    };
    let here = Here::new();
    outputs.insert(
        0,
        output(&folder.join(PAGE), "page with everything to look at"),
    );
    outputs.push(output(&recipe, "recipe"));
    for o in &mut outputs {
        o.file = here.shown(&o.file);
    }
    ran.recipe = ran.recipe.map(|r| here.shown(&r));
    let warnings = said_once(&warnings).iter().map(|w| here.shown(w)).collect();
    Ok(RunAccount::new("run", ran, outputs, warnings, &clock))
}

/// What there is, and what is to be done with it; checked before the long work.
fn planned(
    project: &Project,
    state: &mut State,
    args: &RunArgs,
    common: &Common,
    clock: &Clock,
) -> Result<(Found, Plan), Trouble> {
    let mut found = contents(&project.recipe, state)?;
    clock.lap("headers");
    let mut field = by_headers(&project.recipe, &found);
    if field == Field::Unknown {
        // What was seen once stays: it is where more frames come to.
        let frames = &project.recipe.frames;
        field = match state.panels(frames) {
            Some(true) => Field::Panels("by their stars they lie beside each other"),
            Some(false) => Field::One("by their stars they lie on each other"),
            None => by_stars(&found, &project.folder(), common)?,
        };
        state.seen = Some((frames.clone(), matches!(field, Field::Panels(_))));
        clock.lap("stars");
    }
    found.settle(matches!(field, Field::Panels(_)));
    let mut plan = plan(&project.recipe, &found, &field)?;
    if args.watch {
        with_survey(&mut plan, &found);
    }
    // Before the long work: a palette that cannot be made.
    if let Some((palette, missing)) = plan.lacking.first() {
        return Err(Trouble::PaletteNeeds {
            palette: palette.clone(),
            missing: missing.clone(),
            have: found
                .filters()
                .iter()
                .map(|f| f.name().to_owned())
                .collect(),
        });
    }
    let unknown = args
        .again
        .iter()
        .find(|a| !plan.steps.iter().any(|s| s.id == **a));
    if let Some(step) = unknown {
        return Err(Trouble::NoSuchStep {
            step: step.clone(),
            steps: plan.steps.iter().map(|s| s.id.clone()).collect(),
        });
    }
    Ok((found, plan))
}

/// What several steps or many frames say alike, once.
fn said_once(warnings: &[String]) -> Vec<String> {
    let (mut of_frames, mut others): (Vec<(String, &str)>, Vec<String>) = (Vec::new(), Vec::new());
    for w in warnings {
        let of_frame = w.strip_prefix('\'').and_then(|rest| rest.split_once("': "));
        match of_frame {
            Some((frame, note)) => {
                let one = (frame.to_owned(), note);
                if !of_frames.contains(&one) {
                    of_frames.push(one);
                }
            }
            None if !others.contains(w) => others.push(w.clone()),
            None => {}
        }
    }
    let told = gathered(of_frames).into_iter();
    others.extend(told.map(|(frames, note)| format!("{frames}: {note}")));
    others
}

/// Paths as they are seen from the current folder.
struct Here(Option<String>);

impl Here {
    fn new() -> Self {
        let current = std::env::current_dir().ok();
        Self(current.map(|c| format!("{}{}", name_of(&c), std::path::MAIN_SEPARATOR)))
    }

    fn shown(&self, text: &str) -> String {
        match &self.0 {
            Some(here) => text.replace(here.as_str(), ""),
            None => text.to_owned(),
        }
    }
}

/// A run under way.
struct Work<'a> {
    folder: &'a Path,
    found: &'a Found,
    state: &'a mut State,
    again: &'a [String],
    overwrite: bool,
    common: &'a Common,
    rows: Vec<StepRow>,
    better: Vec<String>,
    warnings: Vec<String>,
    outputs: Vec<Output>,
}

impl Work<'_> {
    /// All steps in their order. What was done stays known whatever happens to the next.
    fn all(&mut self, plan: &Plan, clock: &Clock) -> Result<(), Trouble> {
        for (k, step) in plan.steps.iter().enumerate() {
            if let Err(trouble) = self.one(plan, step, clock) {
                // An error leaves nothing half-written: what is there may be somebody's own.
                self.state.under_way = None;
                self.rows.push(row(step, StepState::Failed, 0.0, 0));
                let rest = plan.steps[k + 1..].iter();
                self.rows
                    .extend(rest.map(|s| row(s, StepState::NotReached, 0.0, 0)));
                self.state.write(self.folder)?;
                return Err(trouble);
            }
        }
        Ok(())
    }

    fn one(&mut self, plan: &Plan, step: &Step, clock: &Clock) -> Result<(), Trouble> {
        let inputs = read_by(step, plan, self.state, self.folder);
        if inputs.is_empty() {
            return Err(Trouble::StepReadsNothing(step.id.clone()));
        }
        let key = self.state.key(step, &inputs);
        let wanted = self.again.contains(&step.id);
        if !wanted && self.state.is_done(&step.id, &key, self.folder) {
            self.rows
                .push(row(step, StepState::DoneBefore, 0.0, inputs.len()));
            return Ok(());
        }
        let before = self.state.steps.get(&step.id).cloned();
        let more = pinned(step, before.as_ref(), &inputs);
        self.announce(step, plan);
        let began = Clock::start();
        let originals: Vec<&Path> = self.found.files.iter().map(|f| f.path.as_path()).collect();
        // What an earlier run has made or begun is replaced, and nothing else.
        let begun = self.state.under_way.as_ref() == Some(&step.id);
        let made = before.as_ref().is_some_and(|b| b.name == step.name);
        let overwrite = made || begun || self.overwrite;
        self.state.under_way = Some(step.id.clone());
        self.state.write(self.folder)?;
        let place = (self.folder, overwrite);
        at_step(Some(format!(
            "step {}, settings {}",
            step.id,
            settings(step)
        )));
        let done = perform(step, (&inputs, &originals), &more, place, self.common);
        at_step(None);
        let done = done?;
        self.state.under_way = None;
        let seconds = began.stages().1;
        clock.lap(step.command);
        self.rows
            .push(row(step, StepState::Done, seconds, inputs.len()));
        self.warnings.extend(done.warnings.iter().cloned());
        if let Some(before) = &before {
            self.better.extend(better(before, &done));
        }
        let key = if updates(step, &inputs) {
            self.state.again(&inputs, self.folder);
            self.state.key(step, &inputs)
        } else {
            key
        };
        let record = self.record(key, step, &done, seconds);
        self.outputs.extend(done.outputs);
        self.state.steps.insert(step.id.clone(), record);
        // A power cut from here on loses nothing of it.
        self.state.write(self.folder)
    }

    /// Says on a terminal what begins, and how long it and all that is left may take.
    fn announce(&self, step: &Step, plan: &Plan) {
        let number = self.rows.len();
        let of = |s: &Step| estimate::seconds(s, self.state);
        let left: f64 = plan.steps[number..].iter().map(of).sum();
        begin_step(
            &format!(
                "step {} of {}: {}, about {}; {} in all",
                number + 1,
                plan.steps.len(),
                step.id,
                duration(of(step)),
                duration(left)
            ),
            self.common,
        );
    }

    fn record(&mut self, key: String, step: &Step, done: &Done, seconds: f64) -> StepRecord {
        let outputs = done.outputs.iter().filter_map(|o| {
            let path = PathBuf::from(&o.file);
            let below = path.strip_prefix(self.folder).unwrap_or(&path).to_owned();
            let mark = self.state.mark(&self.folder.join(&below))?;
            Some((name_of(&below), o.kind.to_owned(), mark))
        });
        let layouts = done.outputs.iter().filter(|o| o.kind == "layout");
        let masters = layouts
            .filter(|_| step.command == "calibrate")
            .flat_map(|o| layout_file::masters(Path::new(&o.file)));
        let beside = masters.map(|m| name_of(m.strip_prefix(self.folder).unwrap_or(&m)));
        StepRecord {
            key,
            beside: beside.collect(),
            name: step.name.clone(),
            outputs: outputs.collect(),
            seconds,
            megapixels: step.megapixels,
            warnings: done.warnings.clone(),
            reference: done.reference.clone(),
            masters: done.masters.clone(),
            widths: done.widths.clone(),
        }
    }
}

/// The files that a step reads, as far as they are there.
pub fn read_by(step: &Step, plan: &Plan, state: &State, folder: &Path) -> Vec<PathBuf> {
    let of = |input: &Input| match input {
        Input::File(path) => vec![path.clone()],
        Input::Made(by, kind) => state.made(&plan.steps[*by].id, kind, folder),
        Input::MadeOf(by, kind, filter) => {
            let part = format!("-{}-", slug(filter.name()));
            let is_own = |p: &PathBuf| {
                let name = p.file_name().unwrap_or_default().to_string_lossy();
                name.contains(&part)
            };
            let all = state.made(&plan.steps[*by].id, kind, folder);
            all.into_iter().filter(is_own).collect()
        }
    };
    step.inputs.iter().flat_map(of).collect()
}

fn row(step: &Step, state: StepState, seconds: f64, reads: usize) -> StepRow {
    StepRow {
        step: step.id.clone(),
        settings: settings(step),
        state,
        seconds: (1000.0 * seconds).round() / 1000.0,
        reads,
    }
}

/// The reference of before stays, so that new frames join the canvas that there is.
fn pinned(step: &Step, before: Option<&StepRecord>, inputs: &[PathBuf]) -> Vec<OsString> {
    let from_files = step.inputs.iter().all(|i| matches!(i, Input::File(_)));
    let has_reference = match step.command {
        "stack" => true,
        "hdr" | "compose" | "register" => from_files,
        _ => false,
    };
    let asked = step
        .options
        .iter()
        .any(|o| o.to_string_lossy().starts_with("--reference"));
    let Some(reference) = before.and_then(|b| b.reference.as_ref()) else {
        return Vec::new();
    };
    let path = Path::new(reference);
    // A layout's frames are looked up by the command itself.
    let there = path.exists() && (inputs.iter().any(|i| i == path) || !from_files);
    if !has_reference || asked || !there {
        return Vec::new();
    }
    vec![format!("--reference={reference}").into()]
}

/// What new frames have brought.
fn better(before: &StepRecord, done: &Done) -> Vec<String> {
    let of = |(name, frames, noise): &(String, usize, f64)| {
        let (_, old, was) = before.masters.iter().find(|m| m.0 == *name)?;
        let less = was / noise;
        (frames != old && less.is_finite()).then(|| {
            format!("{name}: {old} frames have become {frames}, its noise {less:.2} times less")
        })
    };
    let width = |(file, now): &(String, f64)| {
        const SHOWS: f64 = 0.02;
        let (_, was) = before.widths.iter().find(|w| w.0 == *file)?;
        ((now / was - 1.0).abs() > SHOWS).then(|| {
            let name = Path::new(file).file_name().unwrap_or_default();
            format!(
                "{}: its stars are {now:.2} px wide, and were {was:.2}",
                name.to_string_lossy()
            )
        })
    };
    let masters = done.masters.iter().filter_map(of);
    masters
        .chain(done.widths.iter().filter_map(width))
        .collect()
}

/// A recipe that somebody has changed is not written over.
fn refuse_edited(
    project: &Project,
    state: &State,
    folder: &Path,
    overwrite: bool,
) -> Result<(), Trouble> {
    let path = folder.join(RECIPE);
    if project.file.is_some() || overwrite {
        return Ok(());
    }
    match std::fs::read_to_string(&path) {
        Ok(text) if state.recipe.as_deref() != Some(&text) => Err(Trouble::RecipeEdited(path)),
        _ => Ok(()),
    }
}

/// Writes the recipe that makes this again, unless one was given.
fn keep_recipe(
    project: &Project,
    plan: &Plan,
    state: &mut State,
    folder: &Path,
) -> Result<PathBuf, Trouble> {
    if let Some(file) = &project.file {
        return Ok(file.clone());
    }
    let mut recipe = Recipe {
        name: Some(plan.name.clone()),
        ..project.recipe.clone()
    };
    if plan.chosen {
        recipe.palettes = plan.pictures.iter().map(|p| p.palette.clone()).collect();
    }
    let text = written(&recipe, &plan.decided);
    let path = folder.join(RECIPE);
    inputs::forget();
    state.recipe = Some(text.clone());
    state.write(folder)?;
    let file = filled(&path, text.as_bytes(), true)?;
    file.finish().map_err(|error| Trouble::Write {
        file: path.clone(),
        error,
    })?;
    Ok(path)
}

fn page(
    folder: &Path,
    ran: &Ran,
    state: &State,
    plan: &Plan,
    watched: bool,
) -> Result<(), Trouble> {
    let of = |s: &Step| {
        let outputs = state.steps.get(&s.id).map(|r| &r.outputs[..]);
        let entry = |(file, kind, _): &(String, String, String)| IndexEntry {
            file: file.clone(),
            // All reports are called so.
            kind: if kind == "report" {
                format!("report of {}", s.id)
            } else {
                kind.clone()
            },
        };
        let all: Vec<IndexEntry> = outputs.unwrap_or_default().iter().map(entry).collect();
        all
    };
    let files: Vec<IndexEntry> = plan.steps.iter().flat_map(of).collect();
    inputs::forget();
    let path = folder.join(PAGE);
    let written = write_index(&path, ran, &files, watched)?;
    let written = written.finish();
    written.map_err(|error| Trouble::Write { file: path, error })?;
    Ok(())
}

/// What is done and what is not, when a step has failed.
fn summary(ran: &Ran, trouble: &Trouble, common: &Common) {
    if common.json || common.quiet {
        return;
    }
    for s in &ran.steps {
        complain(&format!("step       {:<16} {}", s.step, s.state.words()));
    }
    let failed = ran.steps.iter().find(|s| s.state == StepState::Failed);
    if let Some(step) = failed {
        complain(&format!(
            "The step '{}' has failed ({}). What is done stays; the next 'jigsawa run' goes on there.",
            step.step,
            sentence(trouble)
        ));
    }
}
