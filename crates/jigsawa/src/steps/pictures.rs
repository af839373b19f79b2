//! The pictures that a recipe's masters become: palettes that it names, or that suit the filters.

use std::ffi::OsString;

use jigsawa_core::colour::Palette;
use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_work::compose::named;
use jigsawa_work::outputs::slug;
use jigsawa_work::trouble::Trouble;

use super::contents::{Found, OneFile};
use super::plan::{Plan, filter_words};
use super::step::Input;
use crate::account::LINEAR_PICTURE;
use crate::recipe::{Picture, Recipe, over, words};

impl Plan {
    /// Masters placed and balanced as the recipe says, where it says how; else the first picture sees to both.
    fn laid_by_hand(&mut self, recipe: &Recipe, merged: &[Input], pixels: f64) -> Vec<Input> {
        let mut laid = merged.to_vec();
        for command in ["register", "normalize"] {
            let Some(options) = recipe.options.get(command) else {
                continue;
            };
            let step = self.add((command.to_owned(), command), laid, words(options), pixels);
            laid = vec![Input::Made(step, "layout")];
        }
        laid
    }

    /// The pictures: colours are matched by the first, and the others go on from its layout.
    pub(super) fn colours(
        &mut self,
        recipe: &Recipe,
        found: &Found,
        merged: &[Input],
    ) -> Result<(), Trouble> {
        let filters = found.filters();
        self.pictures = recipe.pictures();
        if self.pictures.is_empty() {
            let chosen = suited(&filters);
            self.chosen = true;
            if chosen.is_empty() {
                self.doubts.push(format!(
                    "no palette can be made of {} alone: each filter is finished in grey",
                    names(&filters)
                ));
            } else {
                self.decided.push(format!(
                    "palettes that suit {}: {}",
                    names(&filters),
                    chosen.join(", ")
                ));
            }
            self.pictures = chosen
                .into_iter()
                .map(|palette| Picture {
                    palette,
                    ..Picture::default()
                })
                .collect();
        }
        let one = found
            .files
            .iter()
            .map(|f| f.facts.size.area().real() / 1e6)
            .fold(0.0, f64::max);
        let finish = recipe.of("finish");
        if self.pictures.is_empty() {
            self.in_grey(&filters, merged, found, &words(&finish), one);
            return Ok(());
        }
        let pixels = one * filters.len().real();
        let merged = &self.laid_by_hand(recipe, merged, pixels);
        let mut first = None;
        for p in self.pictures.clone() {
            let missing = missing(&one_palette(&p.palette)?, &filters);
            if !missing.is_empty() {
                self.doubts.push(format!(
                    "the palette {} needs {}, of which there is no frame",
                    p.palette,
                    missing.join(" and ")
                ));
                self.lacking.push((p.palette.clone(), missing));
            }
            let mut options = words(&over(recipe.of("compose"), &p.compose));
            options.push(format!("--palette={}", p.palette).into());
            if first.is_none() {
                let of_files = |f: &&OneFile| merged.contains(&Input::File(f.path.clone()));
                let all: Vec<&OneFile> = found.files.iter().filter(of_files).collect();
                options.extend(filter_words(recipe, &all));
            }
            options.push("--linear-only".into());
            let inputs = match first {
                None => merged.clone(),
                Some(step) => vec![Input::Made(step, "layout")],
            };
            let part = slug(p.part());
            let linear = self.add(
                (format!("compose {part}"), "compose"),
                inputs,
                options,
                pixels,
            );
            // The command puts the palette behind the name itself.
            if p.name.is_some() {
                self.steps[linear].name = format!("{}-{part}", self.name);
            }
            first = first.or(Some(linear));
            let options = words(&over(finish.clone(), &p.finish));
            let inputs = vec![Input::Made(linear, LINEAR_PICTURE)];
            let finished = self.add((format!("finish {part}"), "finish"), inputs, options, one);
            self.steps[finished].name = format!("{}-{part}", self.name);
        }
        Ok(())
    }

    /// Each filter by itself.
    fn in_grey(
        &mut self,
        filters: &[Filter],
        merged: &[Input],
        found: &Found,
        options: &[OsString],
        pixels: f64,
    ) {
        for filter in filters {
            let own = merged.iter().filter_map(|i| match i {
                Input::Made(step, kind) => Some(Input::MadeOf(*step, kind, filter.clone())),
                Input::File(path) => {
                    let file = found.files.iter().find(|f| f.path == *path)?;
                    let is_own = file.facts.filter.as_ref() == Some(filter);
                    is_own.then(|| i.clone())
                }
                Input::MadeOf(..) => None,
            });
            let own: Vec<Input> = own.take(1).collect();
            let id = format!("finish {}", slug(filter.name()));
            let step = self.add((id, "finish"), own, options.to_vec(), pixels);
            self.steps[step].name = format!("{}-{}", self.name, slug(filter.name()));
        }
    }
}

/// Palettes for some filters: natural colours, the lines in their usual orders, and both together.
fn suited(filters: &[Filter]) -> Vec<String> {
    let first = |names: &[&str]| {
        let fits = |n: &&&str| Palette::by_name(n).is_ok_and(|p| missing(&p, filters).is_empty());
        names.iter().find(fits).map(|n| (*n).to_owned())
    };
    let broad = first(&["LRGB", "RGB"]);
    let lines = first(&["SHO", "HOO"]);
    broad.into_iter().chain(lines).collect()
}

/// The palette that a word means: a picture has one.
fn one_palette(word: &str) -> Result<Palette, Trouble> {
    let mut all = named(word)?;
    match all.pop() {
        Some(one) if all.is_empty() => Ok(one),
        _ => Err(Trouble::PaletteFile {
            file: word.into(),
            error: "it holds several palettes: a picture has one, as in mine.toml#glow".to_owned(),
        }),
    }
}

/// Filters that a palette needs and that are not there.
fn missing(palette: &Palette, filters: &[Filter]) -> Vec<String> {
    // What is no filter's word is a frame's name, which a step may only make.
    let has = |name: &String| {
        let wanted = Filter::from_spelling(name);
        wanted.is_none_or(|w| filters.contains(&w))
    };
    palette.needs().into_iter().filter(|n| !has(n)).collect()
}

fn names(filters: &[Filter]) -> String {
    let all: Vec<&str> = filters.iter().map(Filter::name).collect();
    all.join(", ")
}
