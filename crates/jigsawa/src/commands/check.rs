//! `jigsawa check`: what `run` would do, what is missing or doubtful, and how long it would take. Nothing is written.

use jigsawa_core::calibrate::group::{Group, groups};
use jigsawa_core::calibrate::needs::needs;
use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_core::number::Convert;
use jigsawa_core::space::FramePx;
use jigsawa_work::clock::Clock;
use jigsawa_work::trouble::Trouble;

use super::project::{Project, project};
use super::run::read_by;
use crate::account::{Ending, Ran, RunAccount, StepRow, StepState};
use crate::cli::{CheckArgs, Common};
use crate::recipe::schema;
use crate::settings::defaults;
use crate::steps::{
    Field, Found, Input, Part, Plan, State, by_headers, contents, estimate, plan, settings,
};
use crate::tell::calibrating::doubt;
use crate::terminal::{say, tell};

/// Runs the command and prints its account.
pub fn check(args: &CheckArgs, common: &Common) -> Result<Ending, Trouble> {
    if args.schema {
        say(&serde_json::to_string_pretty(&schema()).unwrap_or_default());
        return Ok(Ending::Whole);
    }
    if args.defaults {
        return show_defaults();
    }
    let clock = Clock::start();
    let project = project(&args.what)?;
    let state = State::read(&project.folder());
    let mut found = contents(&project.recipe, &state)?;
    let mut field = by_headers(&project.recipe, &found);
    if field == Field::Unknown {
        // What a run has seen.
        field = match state.panels(&project.recipe.frames) {
            Some(true) => Field::Panels("by their stars they lie beside each other"),
            Some(false) => Field::One("by their stars they lie on each other"),
            None => Field::Unknown,
        };
    }
    found.settle(matches!(field, Field::Panels(_)));
    let mut plan = plan(&project.recipe, &found, &field)?;
    if plan.steps.iter().any(|s| s.command == "calibrate") {
        plan.doubts.extend(calibration_doubts(&found));
    }
    plan.doubts.extend(far_away(&found));
    clock.lap("headers");
    let ran = account(&project, &found, &plan);
    clock.lap("plan");
    let account = RunAccount::new("check", ran, Vec::new(), Vec::new(), &clock);
    Ok(tell(&account, common))
}

/// What is done and what is to do.
fn account(project: &Project, found: &Found, plan: &Plan) -> Ran {
    let folder = project.folder();
    let mut state = State::read(&folder);
    let (mut rows, mut about_s, mut about_mb) = (Vec::new(), 0.0, 0.0);
    let mut changed: Vec<bool> = Vec::new();
    for step in &plan.steps {
        // What follows from a step that is to be done is to be done as well.
        let stale = step.inputs.iter().any(|i| match i {
            Input::Made(by, _) | Input::MadeOf(by, ..) => changed[*by],
            Input::File(_) => false,
        });
        let inputs = read_by(step, plan, &state, &folder);
        let key = state.key(step, &inputs);
        let done = !stale && state.is_done(&step.id, &key, &folder);
        let seconds = if done {
            0.0
        } else {
            estimate::seconds(step, &state)
        };
        if !done {
            about_s += seconds;
            about_mb += estimate::megabytes(step, found);
        }
        changed.push(!done);
        rows.push(StepRow {
            step: step.id.clone(),
            settings: settings(step),
            state: if done {
                StepState::DoneBefore
            } else {
                StepState::ToDo
            },
            seconds: (10.0 * seconds).round() / 10.0,
            reads: inputs.len(),
        });
    }
    Ran {
        name: plan.name.clone(),
        recipe: project
            .file
            .as_ref()
            .map(|f| jigsawa_work::foreign::name_of(f)),
        decided: plan.decided.clone(),
        doubts: plan.doubts.clone(),
        steps: rows,
        better: Vec::new(),
        about_s: Some((10.0 * about_s).round() / 10.0),
        about_mb: Some(about_mb.round()),
        spoilt: found.spoilt.clone(),
    }
}

/// What lights lack, by headers alone.
fn calibration_doubts(found: &Found) -> Vec<String> {
    let frames: Vec<(Kind, &FrameFacts)> = found
        .files
        .iter()
        .filter(|f| f.part != Part::Master)
        .map(|f| (f.facts.kind, &f.facts))
        .collect();
    let groups = groups(&frames);
    let names: Vec<String> = groups.iter().map(Group::word).collect();
    needs(&groups)
        .iter()
        .zip(&groups)
        .filter(|(_, g)| g.kind == Kind::Light)
        .flat_map(|(n, g)| n.doubts.iter().map(|d| (g.word(), d)).collect::<Vec<_>>())
        .map(|(group, d)| format!("{group}: {}", doubt(d, &names)))
        .collect()
}

/// Frames that lie far from all others, by their places on the sky.
fn far_away(found: &Found) -> Vec<String> {
    /// Two fields may touch; farther is another target.
    const FIELDS: f64 = 6.0;
    let known: Vec<_> = found
        .files
        .iter()
        .filter(|f| f.part != Part::Calibration)
        .filter_map(|f| {
            let wcs = f.facts.wcs.as_ref()?;
            let side = f.facts.size.width().max(f.facts.size.height()).real();
            let field_deg = side * f.facts.wcs_arcsec? / 3600.0;
            Some((f, wcs.sky(f.facts.size.centre::<FramePx>()), field_deg))
        })
        .collect();
    known
        .iter()
        .filter_map(|(f, sky, field)| {
            let mut others: Vec<f64> = known
                .iter()
                .map(|(_, o, _)| sky.separation_deg(*o))
                .collect();
            others.sort_by(f64::total_cmp);
            let middle = others.get(others.len() / 2).copied()?;
            (middle > FIELDS * field).then(|| {
                format!(
                    "'{}' lies {middle:.1} degrees from the others",
                    jigsawa_work::foreign::name_of(&f.path)
                )
            })
        })
        .collect()
}

fn show_defaults() -> Result<Ending, Trouble> {
    let own = defaults()?;
    let place = own.file.as_ref().map(|f| f.display().to_string());
    let place = place.unwrap_or_else(|| "no folder for settings is known".to_owned());
    match &own.text {
        Some(text) => say(&format!("# {place}\n{}", text.trim_end())),
        None => say(&format!(
            "there are no defaults of your own. They would stand in {place}:\n\n\
             palettes = [\"SHO\", \"HOO\"]     # where a project names none\n\
             library = \"masters\"            # calibration masters of all nights, as seen from that file\n\
             memory = \"1G\"\n\
             catalogue = \"stars.csv\"        # star colours for white"
        )),
    }
    Ok(Ending::Whole)
}
