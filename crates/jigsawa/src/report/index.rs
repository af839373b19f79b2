//! The page of a project: its pictures, and the way to every other page and file.

use std::path::Path;

use jigsawa_formats::whole::Unfinished;
use jigsawa_work::trouble::Trouble;
use maud::{Markup, html};

use crate::account::{Ran, StepState};
use crate::report::page::{Chip, Page, section};
use crate::report::table::{Table, cells};

/// A file of the project: its name below the folder of the page, and what it is.
pub struct Entry {
    pub file: String,
    pub kind: String,
}

impl Entry {
    /// Has it this ending?
    fn is(&self, ending: &str) -> bool {
        Path::new(&self.file)
            .extension()
            .is_some_and(|e| e.eq_ignore_ascii_case(ending))
    }
}

/// Writes the page, under a temporary name still.
/// One that is watched looks for news by itself.
pub fn write(
    path: &Path,
    ran: &Ran,
    files: &[Entry],
    watched: bool,
) -> Result<Unfinished, Trouble> {
    let heading = ran.name.clone();
    let mut page = Page::new(format!("{} – jigsawa", ran.name), heading, lead(ran)).with_files();
    if watched {
        page = page.script("setTimeout(() => location.reload(), 30000)");
    }
    let pictures: Vec<&Entry> = files
        .iter()
        .filter(|e| e.is("png") && e.kind.starts_with("finished"))
        .collect();
    if !pictures.is_empty() {
        page.add(section("pictures", "Pictures", &shown(&pictures, files)));
    }
    let of = |ending: &'static str| {
        let all = files.iter().filter(move |e| e.is(ending));
        all.collect::<Vec<&Entry>>()
    };
    page.add(section("reports", "Reports", &links(&of("html"))));
    let linear = [of("fits"), of("exr"), of("json")].concat();
    page.add(section(
        "results",
        "Linear results and layouts",
        &links(&linear),
    ));
    page.add(section("steps", "Steps", &steps(ran)));
    page.save(path, true)
}

fn lead(ran: &Ran) -> Markup {
    html! {
        p.big {
            @let done = ran.steps.iter().filter(|s| matches!(s.state, StepState::Done | StepState::DoneBefore)).count();
            @if done == ran.steps.len() { (Chip::Good.says(format!("all {done} steps are done"))) }
            @else { (Chip::Bad.says(format!("{done} of {} steps are done", ran.steps.len()))) }
            @if !ran.doubts.is_empty() { (Chip::Doubt.says(format!("{} to look at", ran.doubts.len()))) }
        }
        @for line in &ran.better { p { b { "Better: " } (line) } }
        @for line in &ran.doubts { p.doubt { (line) } }
        ul { @for line in &ran.decided { li { (line) } } }
        @if ran.recipe.is_some() { p { "The recipe " a href="jigsawa.toml" { "jigsawa.toml" } " makes exactly this again." } }
    }
}

/// Each picture with what else belongs to it.
fn shown(pictures: &[&Entry], files: &[Entry]) -> Markup {
    html! {
        @for p in pictures {
            @let stem = p.file.trim_end_matches(".png").trim_end_matches("-finished");
            figure {
                a href=(p.file) { img src=(p.file) alt=(stem) style="max-width:100%;height:auto"; }
                figcaption {
                    b { (stem) } ": "
                    @for e in files.iter().filter(|e| e.file.starts_with(stem) && e.file != p.file && !e.is("json")) {
                        a href=(e.file) { (e.file) } " (" (e.kind) ") "
                    }
                }
            }
        }
    }
}

fn links(files: &[&Entry]) -> Markup {
    html! {
        ul { @for e in files { li { a href=(e.file) { (e.file) } " – " (e.kind) } } }
    }
}

fn steps(ran: &Ran) -> Markup {
    let mut table = Table::new(&["step", "state", "#seconds"]);
    for s in &ran.steps {
        table.row(
            "",
            cells![s.step, s.state.words(), format!("{:.1}", s.seconds)],
        );
    }
    html! { (table) }
}
