//! What is to be done with the frames of a recipe: steps in their order, each a command, and why.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::path::PathBuf;

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_work::frames::is_meant;
use jigsawa_work::outputs::slug;
use jigsawa_work::trouble::Trouble;

use super::contents::{Found, OneFile, Part};
use super::field::{Field, OTHER_EXPOSURE};
use super::step::{Input, Step};
use crate::account::{HDR_FRAME, MASTER_FRAME, MOSAIC_FRAME};
use crate::recipe::{Picture, Recipe, words, words_of};

/// Exposures of a filter stay apart where one is so many times the next, as `stack` has it.
const APART: f64 = 4.0;

/// Adds what shows the night as it goes: the table, the plots and the pictures of all lights.
pub fn with_survey(plan: &mut Plan, found: &Found) {
    let lights: Vec<&OneFile> = found.of(Part::Light).collect();
    if lights.is_empty() {
        return;
    }
    if plan.steps.iter().any(|s| s.command == "survey") {
        return;
    }
    let is_calibrated = |k: &usize| plan.steps[*k].command == "calibrate";
    let calibrated: Vec<usize> = (0..plan.steps.len()).filter(is_calibrated).collect();
    let pixels = megapixels(&lights);
    if calibrated.is_empty() {
        let survey = ("survey".to_owned(), "survey");
        plan.add(survey, files(&lights), Vec::new(), pixels);
    }
    // Of each panel's lights.
    for k in calibrated {
        let (id, name) = (plan.steps[k].id.clone(), plan.steps[k].name.clone());
        let survey = (id.replacen("calibrate", "survey", 1), "survey");
        let layout = vec![Input::Made(k, "layout")];
        let step = plan.add(survey, layout, Vec::new(), pixels);
        plan.steps[step].name = name;
    }
}

/// What is to be done.
#[derive(Debug, Default)]
pub struct Plan {
    /// Start of the results' names.
    pub name: String,
    /// The steps.
    pub steps: Vec<Step>,
    /// What was decided, in sentences.
    pub decided: Vec<String>,
    /// What is missing or doubtful.
    pub doubts: Vec<String>,
    /// The pictures, the palettes that were chosen among them.
    pub pictures: Vec<Picture>,
    /// Were the palettes chosen here?
    pub chosen: bool,
    /// Palettes that cannot be made, with the filters that they lack.
    pub lacking: Vec<(String, Vec<String>)>,
}

/// Plans a recipe on what was found.
pub fn plan(recipe: &Recipe, found: &Found, field: &Field) -> Result<Plan, Trouble> {
    if found.targets.len() > 1 {
        return Err(Trouble::Targets {
            wanted: None,
            targets: found.targets.iter().map(|(t, n)| (t.clone(), *n)).collect(),
        });
    }
    let target = found.targets.keys().next().map(|t| slug(t));
    let target = target.filter(|t| !t.is_empty());
    let mut plan = Plan {
        name: recipe
            .name
            .clone()
            .or(target)
            .unwrap_or_else(|| "result".to_owned()),
        ..Plan::default()
    };
    if found.passed > 0 {
        plan.decided.push(format!(
            "passed over beside the lights, as made by an earlier run: {} {}; calibration masters count through 'library'",
            found.passed,
            if found.passed == 1 { "master" } else { "masters" }
        ));
    }
    match field {
        Field::Single => {}
        Field::One(why) => plan
            .decided
            .push(format!("several frames of a filter show one field: {why}")),
        Field::Panels(why) => plan
            .decided
            .push(format!("several frames of a filter are panels of a mosaic: {why}")),
        Field::Unknown => plan.doubts.push(
            "no header says whether several frames of a filter show one field or panels of a larger one: their stars will tell, or 'panels = true' \
             in the recipe"
                .to_owned(),
        ),
    }
    plan.idle_parts(recipe, found);
    let merged = plan.masters(recipe, found, field);
    if merged.is_empty() {
        return Err(Trouble::NoLights(found.files.len()));
    }
    plan.colours(recipe, found, &merged)?;
    for s in &found.spoilt {
        plan.doubts
            .push(format!("'{}' cannot be used: {}", s.file, s.reason));
    }
    Ok(plan)
}

impl Plan {
    pub(super) fn add(
        &mut self,
        (id, command): (String, &'static str),
        inputs: Vec<Input>,
        options: Vec<OsString>,
        megapixels: f64,
    ) -> usize {
        self.steps.push(Step {
            id,
            command,
            inputs,
            options,
            name: self.name.clone(),
            megapixels,
        });
        self.steps.len() - 1
    }

    /// Options of filters and panels that are not there are said: they may come tomorrow.
    fn idle_parts(&mut self, recipe: &Recipe, found: &Found) {
        let there = found.filters();
        let panels = panels(&found.of(Part::Light).collect::<Vec<_>>());
        for (command, parts) in &recipe.parts {
            for name in parts.keys() {
                let is_filter = Filter::named_by_hand(name).is_some_and(|f| there.contains(&f));
                if !is_filter && !panels.contains_key(&slug(name)) {
                    self.doubts.push(format!(
                        "[{command}.for.{name}] has no effect: no frame is of a filter or a panel of this name"
                    ));
                }
            }
        }
    }

    /// From whatever there is to one frame of each filter; returns those.
    fn masters(&mut self, recipe: &Recipe, found: &Found, field: &Field) -> Vec<Input> {
        let lights: Vec<&OneFile> = found.of(Part::Light).collect();
        let mut merged = Vec::new();
        let in_panels = panels(&lights);
        if in_panels.len() > 1 {
            self.decided.push(format!(
                "lights of {} panels: each is stacked by itself, and they are joined",
                in_panels.len()
            ));
            let unnamed = lights.iter().filter(|f| f.panel.is_none()).count();
            if let Some((first, _)) = in_panels.first_key_value().filter(|_| unnamed > 0) {
                self.doubts.push(format!(
                    "{unnamed} lights name no panel: they are stacked with panel {first}, where their stars fit"
                ));
            }
            for (panel, own) in &in_panels {
                merged.extend(self.stacked(recipe, found, own, Some(panel)));
            }
        } else if !lights.is_empty() {
            merged.extend(self.stacked(recipe, found, &lights, None));
        }
        let masters: Vec<&OneFile> = found.of(Part::Master).collect();
        merged.extend(files(&masters));
        let pixels = megapixels(&lights) + megapixels(&masters);
        let of_lights = in_panels.len() < 2 && apart(&lights, APART);
        let apart = of_lights || apart(&masters, OTHER_EXPOSURE);
        if apart {
            self.decided.push(
                "exposures of a filter differ by so much that they are merged into one frame that holds faint light and bright cores (hdr)"
                    .to_owned(),
            );
            let mut options = words(&recipe.of("hdr"));
            options.extend(filter_words(recipe, &masters));
            options.push("--linear-only".into());
            let step = self.add(("hdr".to_owned(), "hdr"), merged, options, pixels);
            merged = vec![Input::Made(step, HDR_FRAME)];
        }
        let of_masters = matches!(field, Field::Panels(_)) && !apart;
        if of_masters || in_panels.len() > 1 {
            let mut options = words(&recipe.of("mosaic"));
            if !apart {
                options.extend(filter_words(recipe, &masters));
            }
            options.push("--linear-only".into());
            let step = self.add(("mosaic".to_owned(), "mosaic"), merged, options, pixels);
            merged = vec![Input::Made(step, MOSAIC_FRAME)];
        }
        merged
    }

    /// Lights to masters, calibrated where they are raw.
    fn stacked(
        &mut self,
        recipe: &Recipe,
        found: &Found,
        lights: &[&OneFile],
        panel: Option<&str>,
    ) -> Vec<Input> {
        let id = |command: &str| match panel {
            Some(panel) => format!("{command} {panel}"),
            None => command.to_owned(),
        };
        let name = match panel {
            Some(panel) => format!("{}-{panel}", self.name),
            None => self.name.clone(),
        };
        let calibration: Vec<&OneFile> = found.of(Part::Calibration).collect();
        let raw_colour = lights.iter().any(|f| f.facts.colour_pattern.is_some());
        let mut inputs = files(lights);
        if calibration.is_empty() && !raw_colour {
            self.decided.push(format!(
                "{} frames without biases, darks and flats: taken as calibrated already",
                lights.len()
            ));
        } else {
            self.decided.push(format!(
                "{} raw lights, {} frames to calibrate them with",
                lights.len(),
                calibration.len()
            ));
            let mut all = inputs;
            all.extend(files(&calibration));
            let mut options = words(&recipe.of_panel("calibrate", panel));
            options.extend(filter_words(recipe, lights.iter().chain(&calibration)));
            if let Some(library) = &recipe.library {
                let mut word = OsString::from("--library=");
                word.push(recipe.path(library));
                options.push(word);
            }
            let pixels = megapixels(&calibration);
            let step = self.add((id("calibrate"), "calibrate"), all, options, pixels);
            self.steps[step].name.clone_from(&name);
            inputs = vec![Input::Made(step, "layout")];
        }
        let there: Vec<Filter> = filters(lights).into_iter().flatten().collect();
        let of_filters = |command: &str| {
            let parts = recipe.of_filters(command, &there).into_iter();
            parts.flat_map(|(filter, own)| words_of(filter.name(), own))
        };
        let mut survey = words(&recipe.of_panel("survey", panel));
        survey.extend(of_filters("survey"));
        if !survey.is_empty() {
            let mut options = survey;
            options.push("--layout".into());
            let pixels = megapixels(lights);
            let step = self.add((id("survey"), "survey"), inputs, options, pixels);
            self.steps[step].name.clone_from(&name);
            inputs = vec![Input::Made(step, "layout")];
        }
        let of_stack = recipe.of_panel("stack", panel);
        let mut options = words(&of_stack);
        options.extend(of_filters("stack"));
        if matches!(inputs.first(), Some(Input::File(_))) {
            options.extend(filter_words(recipe, lights));
        }
        let pixels = megapixels(lights);
        if panel.is_some() && !of_stack.contains_key("exposures") {
            options.push("--exposures=together".into());
        }
        let step = self.add((id("stack"), "stack"), inputs, options, pixels);
        self.steps[step].name = name;
        vec![Input::Made(step, MASTER_FRAME)]
    }
}

/// Lights by the panels that headers name; what names none is of the first.
fn panels<'a>(lights: &[&'a OneFile]) -> BTreeMap<String, Vec<&'a OneFile>> {
    let mut all: BTreeMap<String, Vec<&OneFile>> = BTreeMap::new();
    for f in lights {
        let panel = f.panel.as_ref().map(|p| slug(p)).filter(|p| !p.is_empty());
        if let Some(panel) = panel {
            all.entry(panel).or_default().push(f);
        }
    }
    let without = lights.iter().filter(|f| f.panel.is_none());
    if let Some(mut first) = all.first_entry() {
        first.get_mut().extend(without);
    }
    all
}

/// Filters that the recipe gives to some of these files, as options.
pub(super) fn filter_words<'a>(
    recipe: &Recipe,
    files: impl IntoIterator<Item = &'a &'a OneFile>,
) -> Vec<OsString> {
    let paths: Vec<&PathBuf> = files.into_iter().map(|f| &f.path).collect();
    let all = recipe.filters.iter().flat_map(|(filter, patterns)| {
        let own = patterns
            .iter()
            .filter(|p| paths.iter().any(|f| is_meant(f, p)));
        own.map(move |p| format!("--filter={filter}={p}").into())
    });
    all.collect()
}

fn files(all: &[&OneFile]) -> Vec<Input> {
    all.iter().map(|f| Input::File(f.path.clone())).collect()
}

fn megapixels(all: &[&OneFile]) -> f64 {
    let areas = all
        .iter()
        .map(|f| (f.facts.size.area() * f.facts.planes).real());
    areas.sum::<f64>() / 1e6
}

fn filters(all: &[&OneFile]) -> Vec<Option<Filter>> {
    let mut found: Vec<Option<Filter>> = Vec::new();
    for f in all {
        if !found.contains(&f.facts.filter) {
            found.push(f.facts.filter.clone());
        }
    }
    found
}

/// Has a filter exposures of which one is so many times the next?
fn apart(all: &[&OneFile], times: f64) -> bool {
    filters(all).iter().any(|filter| {
        let own = all.iter().filter(|f| f.facts.filter == *filter);
        let mut seconds: Vec<f64> = own.filter_map(|f| f.facts.exposure_s).collect();
        seconds.sort_by(f64::total_cmp);
        seconds.windows(2).any(|w| w[1] >= times * w[0])
    })
}
