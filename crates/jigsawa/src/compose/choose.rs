//! Which palettes are wanted: by name, from a file, all that the frames allow, or mixes typed one by one.

use std::collections::BTreeMap;
use std::path::Path;

use comfy_table::{ContentArrangement, Table, presets};
use jigsawa_core::colour::mix::{Mix, parse};
use jigsawa_core::colour::{Palette, Written};

use super::bind::{CHANNELS, missing};
use jigsawa_formats::inputs;

use crate::cli::{ComposeArgs, TryArg};
use crate::frames::Frame;
use crate::outputs::plain_name;
use crate::tell::Trouble;

/// The palettes that the user asks for, in order.
pub fn choose(args: &ComposeArgs, frames: &[Frame]) -> Result<Vec<Palette>, Trouble> {
    if let Some(text) = &args.each {
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
    for word in &args.palette {
        palettes.extend(named(word)?);
    }
    if args.attempt == Some(TryArg::All) {
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
        let text = |t: &Option<String>| t.clone().unwrap_or_default();
        palettes.push(Palette {
            name: "mix".to_owned(),
            about: String::new(),
            channels: [
                typed(0, &text(&args.red))?,
                typed(1, &text(&args.green))?,
                typed(2, &text(&args.blue))?,
            ],
            luminance: None,
            stars: None,
        });
    }
    match args.luminance.as_deref() {
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
    match args.pick {
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
fn named(word: &str) -> Result<Vec<Palette>, Trouble> {
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

/// The palettes as a table: name, what it needs, what it is for.
pub fn list() -> String {
    let mut table = Table::new();
    table
        .load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_header(["palette", "needs", "what it is for", "red | green | blue"]);
    for p in Palette::shown() {
        let mixes: Vec<&str> = p.channels.iter().map(Mix::text).collect();
        let mut text = mixes.join(" | ");
        if let Some(l) = &p.luminance {
            text = format!("{text}, brightness {}", l.text());
        }
        if p.stars.is_some() {
            text = format!("{text}, stars R | G | B");
        }
        table.add_row([p.name.as_str(), &p.needs().join(" "), &p.about, &text]);
    }
    format!(
        "{table}\n\nAny three letters of the lines S, H, O and N are a palette, too. Your own stand in a file: \
         docs/palettes.md"
    )
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
