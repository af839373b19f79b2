//! What is typed after `run` and `check`, as a recipe: one that is given, or one made of the folders that are named.

use std::path::{Path, PathBuf};

use jigsawa_formats::inputs;
use jigsawa_work::outputs::plain_name;
use jigsawa_work::trouble::Trouble;

use crate::cli::{Common, WhatArgs, bytes};
use crate::recipe::{Recipe, read, straight};
use crate::settings::defaults;

/// The recipe that lies in a folder of results.
const NAME: &str = "jigsawa.toml";

/// Results, where nothing is said.
const OUT: &str = "result";

/// A recipe and where it came from.
pub struct Project {
    /// What is to be done.
    pub recipe: Recipe,
    /// Its file; none where it was made of what was typed.
    pub file: Option<PathBuf>,
}

/// The project that is meant.
pub fn project(what: &WhatArgs) -> Result<Project, Trouble> {
    let own = defaults()?;
    let here = PathBuf::from(NAME);
    let is_recipe = |p: &PathBuf| {
        p.extension()
            .is_some_and(|e| e.eq_ignore_ascii_case("toml"))
    };
    let given = match what.frames.as_slice() {
        [] if here.exists() => Some(here),
        [] => return Err(Trouble::NothingGiven),
        [one] if is_recipe(one) => Some(one.clone()),
        // A folder of results is meant by its recipe.
        [one] if one.join(NAME).exists() && what.palettes.is_empty() && what.out.is_none() => {
            Some(one.join(NAME))
        }
        all if all.iter().any(is_recipe) => {
            return Err(Trouble::Options(
                "a recipe stands alone: it names its frames itself",
            ));
        }
        _ => None,
    };
    let mut recipe = match &given {
        Some(file) => of_file(file, what)?,
        None => of_arguments(what)?,
    };
    if let Some(name) = &recipe.name {
        plain_name(name)?;
    }
    if recipe.palettes.is_empty() && recipe.pictures.is_empty() {
        recipe.palettes.clone_from(&own.palettes);
    }
    recipe.library = recipe.library.or_else(|| own.library.clone());
    recipe.memory = recipe.memory.or_else(|| own.memory.clone());
    if let Some(catalogue) = &own.catalogue {
        let finish = recipe.options.entry("finish".to_owned()).or_default();
        finish
            .entry("white".to_owned())
            .or_insert_with(|| toml::Value::String(catalogue.clone()));
    }
    Ok(Project {
        recipe,
        file: given,
    })
}

fn of_file(file: &Path, what: &WhatArgs) -> Result<Recipe, Trouble> {
    let wrong = |error: String| Trouble::Recipe {
        file: file.to_owned(),
        error,
    };
    let text = inputs::read_text(file).map_err(|e| wrong(e.to_string()))?;
    let folder = absolute(file.parent().unwrap_or(Path::new("")))?;
    let mut recipe = read(&text, &folder).map_err(wrong)?;
    if !what.palettes.is_empty() || what.out.is_some() || what.name.is_some() {
        return Err(Trouble::Options(
            "--palettes, --out and --name stand in the recipe: change them there",
        ));
    }
    recipe.target = what.target.clone().or(recipe.target);
    for palette in &mut recipe.palettes {
        *palette = seen_from(&folder, palette)?;
    }
    for picture in &mut recipe.pictures {
        picture.palette = seen_from(&folder, &picture.palette)?;
    }
    Ok(recipe)
}

/// A recipe of folders: it will lie among the results, and names its frames as seen from there.
fn of_arguments(what: &WhatArgs) -> Result<Recipe, Trouble> {
    let out = absolute(what.out.as_deref().unwrap_or(Path::new(OUT)))?;
    let mut frames = Vec::with_capacity(what.frames.len());
    for given in &what.frames {
        let path = absolute(given)?;
        let seen = pathdiff::diff_paths(&path, &out).unwrap_or(path);
        let seen = if seen.as_os_str().is_empty() {
            PathBuf::from(".")
        } else {
            seen
        };
        frames.push(seen.to_string_lossy().into_owned());
    }
    let palettes = what.palettes.iter().map(|p| seen_from(Path::new(""), p));
    Ok(Recipe {
        name: what.name.clone(),
        target: what.target.clone(),
        frames,
        out: ".".to_owned(),
        palettes: palettes.collect::<Result<_, Trouble>>()?,
        folder: out,
        ..Recipe::default()
    })
}

/// A palette whose file lies in a folder, by its whole path; others as they are.
fn seen_from(folder: &Path, palette: &str) -> Result<String, Trouble> {
    let file = palette.split_once('#').map_or(palette, |(file, _)| file);
    let path = folder.join(file);
    if !path.is_file() {
        return Ok(palette.to_owned());
    }
    let path = absolute(&path)?;
    Ok(palette.replacen(file, &path.to_string_lossy(), 1))
}

/// A path from the root on, without what leads back.
fn absolute(path: &Path) -> Result<PathBuf, Trouble> {
    let current = std::env::current_dir().map_err(|error| Trouble::Write {
        file: path.to_owned(),
        error: jigsawa_formats::error::FileError::io("cannot find the current folder")(error),
    })?;
    Ok(straight(&current.join(path)))
}

impl Project {
    /// The folder of the results.
    pub fn folder(&self) -> PathBuf {
        self.recipe.path(&self.recipe.out)
    }

    /// The options of every command, with those of the recipe.
    pub fn common(&self, common: &Common) -> Result<Common, Trouble> {
        let mut own = common.clone();
        if let Some(memory) = &self.recipe.memory {
            own.memory = bytes(memory).map_err(|error| Trouble::Recipe {
                file: self.file.clone().unwrap_or_else(|| NAME.into()),
                error: format!("memory = \"{memory}\": {error}"),
            })?;
        }
        Ok(own)
    }
}
