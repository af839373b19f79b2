//! A person's own defaults: a file in the system's folder for such, whose keys are those of a recipe.

use std::path::{Path, PathBuf};

use jigsawa_work::trouble::Trouble;

/// The file that says where the defaults stand, for tests and for who has several.
const VARIABLE: &str = "JIGSAWA_DEFAULTS";

/// What a person wants in every project.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Defaults {
    /// The file, whether it is there or not.
    pub file: Option<PathBuf>,
    /// Its text; none where it is not there.
    pub text: Option<String>,
    /// Palettes, where a project names none.
    pub palettes: Vec<String>,
    /// Where calibration masters are kept.
    pub library: Option<String>,
    /// Memory for tiles.
    pub memory: Option<String>,
    /// A catalogue of star colours for `finish`.
    pub catalogue: Option<String>,
}

/// Keys of the file.
const KEYS: [&str; 4] = ["palettes", "library", "memory", "catalogue"];

/// Where the defaults stand.
fn place() -> Option<PathBuf> {
    let folder = |name: &str| {
        std::env::var_os(name)
            .filter(|v| !v.is_empty())
            .map(PathBuf::from)
    };
    let own = folder(VARIABLE);
    let of_system = if cfg!(windows) {
        folder("APPDATA")
    } else {
        folder("XDG_CONFIG_HOME").or_else(|| folder("HOME").map(|h| h.join(".config")))
    };
    own.or_else(|| Some(of_system?.join("jigsawa").join("defaults.toml")))
}

/// Reads them; none where there is no such file.
pub fn defaults() -> Result<Defaults, Trouble> {
    let Some(file) = place() else {
        return Ok(Defaults::default());
    };
    let Ok(text) = std::fs::read_to_string(&file) else {
        return Ok(Defaults {
            file: Some(file),
            ..Defaults::default()
        });
    };
    parsed(&file, text).map_err(|error| Trouble::Recipe { file, error })
}

fn parsed(file: &Path, text: String) -> Result<Defaults, String> {
    let table: toml::Table = text
        .parse()
        .map_err(|e: toml::de::Error| e.message().to_owned())?;
    if let Some(key) = table.keys().find(|k| !KEYS.contains(&k.as_str())) {
        return Err(format!(
            "'{key}' is not known. It may hold {}",
            KEYS.join(", ")
        ));
    }
    let word = |key: &str| match table.get(key) {
        None => Ok(None),
        Some(toml::Value::String(s)) => Ok(Some(s.clone())),
        Some(_) => Err(format!("'{key}' is a text in quotes")),
    };
    let palettes = match table.get("palettes") {
        None => Vec::new(),
        Some(toml::Value::Array(all)) => all
            .iter()
            .map(|v| {
                v.as_str()
                    .map(str::to_owned)
                    .ok_or("palettes are texts in quotes")
            })
            .collect::<Result<_, _>>()?,
        Some(_) => return Err("'palettes' is a list, as in [\"SHO\", \"HOO\"]".to_owned()),
    };
    // Paths are as seen from the file.
    let folder = file.parent().unwrap_or(Path::new(""));
    let path = |text: Option<String>| text.map(|t| folder.join(t).to_string_lossy().into_owned());
    Ok(Defaults {
        palettes,
        library: path(word("library")?),
        memory: word("memory")?,
        catalogue: path(word("catalogue")?),
        file: Some(file.to_owned()),
        text: Some(text),
    })
}
