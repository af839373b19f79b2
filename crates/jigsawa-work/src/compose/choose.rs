//! Which palettes are wanted: by name, from a file, all that the frames allow, or mixes typed one by one.

use std::collections::BTreeMap;
use std::path::Path;

use jigsawa_core::colour::mix::{Mix, parse};
use jigsawa_core::colour::{Palette, Written};

use super::bind::{CHANNELS, missing};
use jigsawa_formats::inputs;

use crate::frames::Frame;
use crate::outputs::plain_name;
use crate::trouble::Trouble;

/// Which colours are wanted.
#[derive(Debug, Clone, Copy, Default)]
pub struct Colours<'a> {
    /// Palettes by name, or files of them.
    pub palettes: &'a [String],
    /// All others that the frames allow, too.
    pub all_fitting: bool,
    /// Only the one of this number, from 1.
    pub pick: Option<u16>,
    /// Mixes for red, green and blue, where no palette is named.
    pub mixes: Option<[&'a str; 3]>,
    /// One mix of pictures in layers, for each of their channels.
    pub each: Option<&'a str>,
    /// Where brightness comes from: a mix, `all` or `none`.
    pub luminance: Option<&'a str>,
}

/// The palettes that the user asks for, in order.
pub fn choose(wanted: &Colours<'_>, frames: &[Frame]) -> Result<Vec<Palette>, Trouble> {
    if let Some(text) = wanted.each {
        let mix = typed(0, text)?;
        return Ok(vec![Palette {
            name: "layers".to_owned(),
            about: String::new(),
            channels: [mix.clone(), mix.clone(), mix],
            luminance: None,
            stars: None,
        }]);
    }
    let mut palettes = Vec::new();
    for word in wanted.palettes {
        palettes.extend(named(word)?);
    }
    if wanted.all_fitting {
        let fitting = Palette::shown()
            .into_iter()
            .filter(|p| missing(p, frames).is_empty());
        for p in Palette::apart(&fitting.collect::<Vec<_>>()) {
            if !palettes.iter().any(|q: &Palette| q.name == p.name) {
                palettes.push(p);
            }
        }
        if palettes.is_empty() {
            return Err(Trouble::NothingToTry(
                frames.iter().map(|f| f.filter.name().to_owned()).collect(),
            ));
        }
    }
    if palettes.is_empty() {
        let [red, green, blue] = wanted.mixes.unwrap_or_default();
        palettes.push(Palette {
            name: "mix".to_owned(),
            about: String::new(),
            channels: [typed(0, red)?, typed(1, green)?, typed(2, blue)?],
            luminance: None,
            stars: None,
        });
    }
    match wanted.luminance {
        // The blend of all frames is made when their noise is known.
        None | Some("all") => {}
        Some("none") => {
            for p in &mut palettes {
                p.luminance = None;
            }
        }
        Some(text) => {
            let mix = typed(3, text)?;
            for p in &mut palettes {
                p.luminance = Some(mix.clone());
            }
        }
    }
    for p in &palettes {
        let missing = missing(p, frames);
        if p.name != "mix" && p.name != "layers" && !missing.is_empty() {
            return Err(Trouble::PaletteNeeds {
                palette: p.name.clone(),
                missing,
                have: frames.iter().map(|f| f.filter.name().to_owned()).collect(),
            });
        }
    }
    match wanted.pick {
        None => Ok(palettes),
        Some(n) => {
            let (n, of) = (usize::from(n), palettes.len());
            palettes
                .into_iter()
                .nth(n.wrapping_sub(1))
                .map(|p| vec![p])
                .ok_or(Trouble::NoSuchVariant { number: n, of })
        }
    }
}

fn typed(channel: usize, text: &str) -> Result<Mix, Trouble> {
    parse(text).map_err(|error| Trouble::Mix {
        channel: CHANNELS[channel],
        text: text.to_owned(),
        error,
    })
}

/// The palettes that a word means: one that comes with the program, all of a file, or one of a file.
pub fn named(word: &str) -> Result<Vec<Palette>, Trouble> {
    let (file, one) = match word.split_once('#') {
        Some((file, one)) => (file, Some(one)),
        None => (word, None),
    };
    if one.is_none() && !file.to_lowercase().ends_with(".toml") {
        return Palette::by_name(word)
            .map(|p| vec![p])
            .map_err(|e| Trouble::Palette(e.0));
    }
    inputs::read_text(Path::new(file))
        .map_err(|e| e.to_string())
        .and_then(|text| in_text(&text, one))
        .map_err(|error| Trouble::PaletteFile {
            file: file.into(),
            error,
        })
}

/// The palettes that are written in a text: all, or one.
fn in_text(text: &str, one: Option<&str>) -> Result<Vec<Palette>, String> {
    let written: BTreeMap<String, Written> =
        toml::from_str(text).map_err(|e| e.to_string().trim().to_owned())?;
    let chosen: Vec<(&String, &Written)> = written
        .iter()
        .filter(|(name, _)| one.is_none_or(|o| o == name.as_str()))
        .collect();
    if chosen.is_empty() {
        let names: Vec<&str> = written.keys().map(String::as_str).collect();
        return Err(match one {
            Some(one) => format!("it has no palette '{one}'; it has {}", names.join(", ")),
            None => "it has no palette".to_owned(),
        });
    }
    chosen
        .into_iter()
        .map(|(name, w)| {
            if plain_name(name).is_err() {
                return Err(format!("'{name}' cannot be part of a file's name"));
            }
            Palette::written(name, w).map_err(|e| {
                format!(
                    "palette '{name}', {e}\n  {}\n  {}^",
                    e.text,
                    " ".repeat(e.error.column - 1)
                )
            })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_sky::garble::{Garble, runs};

    #[test]
    fn spoilt_palettes_are_read_or_refused() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus/palettes");
        let mut garble = Garble::of_folder(&folder);
        let (runs, mut taken) = (runs(5_000), 0);
        for number in 0..runs {
            if let Ok(palettes) = in_text(&garble.text(number), None) {
                assert!(
                    palettes.iter().all(|p| plain_name(&p.name).is_ok()),
                    "{number}"
                );
                taken += 1;
            }
        }
        assert!(taken > runs / 50, "{taken} of {runs}");
    }
}
