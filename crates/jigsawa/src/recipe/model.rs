//! What a recipe says.

use std::collections::BTreeMap;
use std::path::{Component, Path, PathBuf};

use jigsawa_core::filter::Filter;
use jigsawa_work::outputs::slug;

/// The number of the recipe's form.
pub const FORMAT: i64 = 1;

/// Options of a command: their long names, and their values.
pub type Options = BTreeMap<String, toml::Value>;

/// A project: frames of one target, and the pictures that are wanted of them.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Recipe {
    /// Start of every result's name; the target's where nothing is said.
    pub name: Option<String>,
    /// Folders, files and patterns.
    pub frames: Vec<String>,
    /// The target, where the frames show several.
    pub target: Option<String>,
    /// The folder of the results.
    pub out: String,
    /// Filters of frames that the recipe names by patterns, before what their headers say.
    pub filters: BTreeMap<String, Vec<String>>,
    /// Where calibration masters are kept; among the results where nothing is said.
    pub library: Option<String>,
    /// Several frames of a filter are panels of a mosaic, or are not; found out where nothing is said.
    pub panels: Option<bool>,
    /// Memory for tiles.
    pub memory: Option<String>,
    /// Palettes, each for one picture; those that suit the filters where there are none.
    pub palettes: Vec<String>,
    /// Options of commands.
    pub options: BTreeMap<String, Options>,
    /// Options of commands for one filter or one panel alone, which come before those for all: by command, and by the name
    /// of the filter or the panel.
    pub parts: BTreeMap<String, BTreeMap<String, Options>>,
    /// Pictures with options of their own.
    pub pictures: Vec<Picture>,
    /// The folder that paths are seen from.
    pub folder: PathBuf,
}

/// A picture with options of its own, which come before those of all pictures.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Picture {
    /// What it is called, besides the target: the palette where nothing is said.
    pub name: Option<String>,
    /// Its palette.
    pub palette: String,
    /// Options of `compose` and of `finish`.
    pub compose: Options,
    /// See `compose`.
    pub finish: Options,
}

impl Recipe {
    /// All pictures: those of plain palettes first.
    pub fn pictures(&self) -> Vec<Picture> {
        let plain = self.palettes.iter().map(|p| Picture {
            palette: p.clone(),
            ..Picture::default()
        });
        plain.chain(self.pictures.iter().cloned()).collect()
    }

    /// A path as seen from the recipe.
    pub fn path(&self, text: &str) -> PathBuf {
        let own = PathBuf::from(text);
        if own.is_absolute() {
            return own;
        }
        // The folder may not be there yet, so that what leads out of it is no path for the system.
        straight(&self.folder.join(own))
    }

    /// The options of a command for a panel, by the name that its results have.
    pub fn of_panel(&self, command: &str, panel: Option<&str>) -> Options {
        let parts = self.parts.get(command).into_iter().flatten();
        let own = parts.filter(|(name, _)| panel.is_some_and(|p| slug(p) == slug(name)));
        own.fold(self.of(command), |all, (_, own)| over(all, own))
    }

    /// The options of a command for some filters, where they have any.
    pub fn of_filters(&self, command: &str, filters: &[Filter]) -> Vec<(Filter, &Options)> {
        let parts = self.parts.get(command).into_iter().flatten();
        let named = parts.filter_map(|(name, own)| Some((Filter::named_by_hand(name)?, own)));
        named.filter(|(f, _)| filters.contains(f)).collect()
    }

    /// The options of a command for all that it does.
    pub fn of(&self, command: &str) -> Options {
        self.options.get(command).cloned().unwrap_or_default()
    }
}

/// Options with others that come before them.
pub fn over(mut all: Options, own: &Options) -> Options {
    for (key, value) in own {
        all.retain(|k, _| k.replace('_', "-") != key.replace('_', "-"));
        all.insert(key.clone(), value.clone());
    }
    all
}

/// A path without what leads back.
pub fn straight(path: &Path) -> PathBuf {
    let mut whole = PathBuf::new();
    for part in path.components() {
        match part {
            Component::ParentDir => {
                whole.pop();
            }
            Component::CurDir => {}
            other => whole.push(other),
        }
    }
    whole
}

impl Picture {
    /// What it is called besides the target.
    pub fn part(&self) -> &str {
        let of_palette = || match self.palette.split_once('#') {
            Some((_, one)) => one,
            None => Path::new(&self.palette)
                .file_stem()
                .and_then(|s| s.to_str())
                .unwrap_or(&self.palette),
        };
        self.name.as_deref().unwrap_or_else(of_palette)
    }
}
