//! A recipe from its text: what is not known is an error with the nearest name, and so is a value that a command would
//! refuse.

use std::collections::BTreeMap;
use std::path::Path;

use clap::Parser;
use jigsawa_core::filter::Filter;
use toml::{Table, Value};

use super::options::{names, spelled, words};
use super::{BY_FILTER, COMMANDS, FOR_PARTS, FORMAT, Options, Picture, Recipe};
use crate::cli::Cli;
use crate::tell::did_you_mean;

/// Keys at the top.
const TOP: [&str; 11] = [
    "format", "name", "frames", "target", "out", "library", "panels", "memory", "palettes",
    "picture", "filters",
];

/// Keys of a picture.
const OF_PICTURE: [&str; 4] = ["name", "palette", "compose", "finish"];

/// Reads a recipe that lies in a folder.
///
/// # Errors
/// A sentence that says where and what.
pub fn read(text: &str, folder: &Path) -> Result<Recipe, String> {
    let table: Table = text.parse().map_err(|e: toml::de::Error| {
        let line = e.span().map(|s| text[..s.start].lines().count().max(1));
        let at = line.map_or(String::new(), |l| format!("line {l}: "));
        format!("{at}{}", e.message())
    })?;
    let place = Place { text };
    let known: Vec<&str> = TOP.iter().copied().chain(COMMANDS).collect();
    for key in table.keys() {
        if !known.contains(&key.as_str()) {
            return Err(place.unknown(key, "", &known));
        }
    }
    match table.get("format") {
        Some(Value::Integer(FORMAT)) => {}
        Some(other) => {
            return Err(format!(
                "format = {other}: this program reads format {FORMAT}"
            ));
        }
        None => {
            return Err(format!(
                "it has no 'format = {FORMAT}', which says how it is to be read"
            ));
        }
    }
    let mut recipe = Recipe {
        name: text_of(&table, "name")?,
        frames: list_of(&table, "frames")?,
        target: text_of(&table, "target")?,
        filters: filters_of(&table)?,
        out: text_of(&table, "out")?.unwrap_or_else(|| ".".to_owned()),
        library: text_of(&table, "library")?,
        panels: match table.get("panels") {
            None => None,
            Some(Value::Boolean(b)) => Some(*b),
            Some(_) => return Err("'panels' is true or false".to_owned()),
        },
        memory: text_of(&table, "memory")?,
        palettes: list_of(&table, "palettes")?,
        folder: folder.to_owned(),
        ..Recipe::default()
    };
    if recipe.frames.is_empty() {
        return Err("'frames' names no folder, file or pattern".to_owned());
    }
    for command in COMMANDS {
        let mut all = table.clone();
        if let Some(Value::Table(own)) = all
            .get_mut(command)
            .filter(|_| FOR_PARTS.contains(&command))
            && let Some(parts) = own.remove("for")
        {
            let parts = parts_of(&parts, command, &place)?;
            recipe.parts.insert(command.to_owned(), parts);
        }
        let options = section(&all, (command, command), command, &place)?;
        recipe.options.insert(command.to_owned(), options);
    }
    recipe.options.retain(|_, o| !o.is_empty());
    if let Some(pictures) = table.get("picture") {
        let all = pictures.as_array().ok_or("a picture is a [[picture]]")?;
        for one in all {
            let one = one.as_table().ok_or("a picture is a [[picture]]")?;
            recipe.pictures.push(picture(one, &place)?);
        }
    }
    twins(&recipe)?;
    Ok(recipe)
}

/// Options of a command for single filters and panels.
fn parts_of(
    parts: &Value,
    command: &str,
    place: &Place<'_>,
) -> Result<BTreeMap<String, Options>, String> {
    let parts = parts.as_table().ok_or_else(|| {
        format!("'for' in [{command}] holds sections: [{command}.for.OIII], and its options below")
    })?;
    let mut all = BTreeMap::new();
    for name in parts.keys() {
        let own = section(
            parts,
            (name, &format!("{command}.for.{name}")),
            command,
            place,
        )?;
        if Filter::from_spelling(name).is_some() {
            let known = names(command);
            let single: Vec<&str> = BY_FILTER
                .into_iter()
                .filter(|o| known.iter().any(|k| k == o))
                .collect();
            if single.is_empty() {
                return Err(format!(
                    "[{command}.for.{name}]: {command} takes all filters together; [{command}.for.PANEL] is for one panel"
                ));
            }
            let wrong = own.keys().find(|k| !single.contains(&spelled(k).as_str()));
            if let Some(key) = wrong {
                return Err(format!(
                    "{}[{command}.for.{name}] {key}: this holds for all filters; of one filter alone there may be {}",
                    place.line(key),
                    single.join(", ")
                ));
            }
        }
        all.insert(name.clone(), own);
    }
    Ok(all)
}

fn picture(table: &Table, place: &Place<'_>) -> Result<Picture, String> {
    for key in table.keys() {
        if !OF_PICTURE.contains(&key.as_str()) {
            return Err(place.unknown(key, "[[picture]]", &OF_PICTURE));
        }
    }
    Ok(Picture {
        name: text_of(table, "name")?,
        palette: text_of(table, "palette")?.ok_or("a [[picture]] has no palette")?,
        compose: section(table, ("compose", "compose"), "compose", place)?,
        finish: section(table, ("finish", "finish"), "finish", place)?,
    })
}

/// Two pictures of one name would replace each other.
fn twins(recipe: &Recipe) -> Result<(), String> {
    let all = recipe.pictures();
    for (i, p) in all.iter().enumerate() {
        if all[..i]
            .iter()
            .any(|q| q.part().eq_ignore_ascii_case(p.part()))
        {
            return Err(format!(
                "two pictures are called '{}': give one of them a name of its own (name = \"{}-2\")",
                p.part(),
                p.part()
            ));
        }
    }
    Ok(())
}

/// The options of a command, checked by its own command line.
fn section(
    table: &Table,
    (key, title): (&str, &str),
    command: &str,
    place: &Place<'_>,
) -> Result<Options, String> {
    let Some(value) = table.get(key) else {
        return Ok(Options::new());
    };
    let Some(own) = value.as_table() else {
        return Err(format!(
            "'{key}' is a section: [{title}], and its options below"
        ));
    };
    let known = names(command);
    let known: Vec<&str> = known.iter().map(String::as_str).collect();
    for option in own.keys() {
        if !known.contains(&spelled(option).as_str()) {
            return Err(place.unknown(option, &format!("[{title}]"), &known));
        }
    }
    let options: Options = own.clone().into_iter().collect();
    for (option, value) in &options {
        let one = Options::from([(option.clone(), value.clone())]);
        tried(command, &one)
            .map_err(|e| format!("{}[{title}] {option}: {e}", place.line(option)))?;
    }
    tried(command, &options).map_err(|e| format!("[{title}]: {e}"))?;
    Ok(options)
}

/// Would the command take them?
fn tried(command: &str, options: &Options) -> Result<(), String> {
    let mut all = vec!["jigsawa".into(), command.into()];
    all.extend(words(options));
    if command == "compose" {
        all.push("--palette=SHO".into());
    }
    all.push("frame.fits".into());
    let failed = |e: clap::Error| {
        use clap::error::ErrorKind;
        // What one option needs besides is asked of all of them together.
        let alone = options.len() == 1 && e.kind() == ErrorKind::MissingRequiredArgument;
        let text = e.to_string();
        let line = text.lines().next().unwrap_or_default().to_owned();
        (!alone).then(|| line.strip_prefix("error: ").unwrap_or(&line).to_owned())
    };
    match Cli::try_parse_from(all) {
        Ok(_) => Ok(()),
        Err(e) => failed(e).map_or(Ok(()), Err),
    }
}

fn text_of(table: &Table, key: &str) -> Result<Option<String>, String> {
    match table.get(key) {
        None => Ok(None),
        Some(Value::String(s)) if !s.trim().is_empty() => Ok(Some(s.clone())),
        Some(_) => Err(format!("'{key}' is a text in quotes")),
    }
}

fn list_of(table: &Table, key: &str) -> Result<Vec<String>, String> {
    let wrong = || format!("'{key}' is a list of texts, as in [\"a\", \"b\"]");
    match table.get(key) {
        None => Ok(Vec::new()),
        Some(Value::String(one)) => Ok(vec![one.clone()]),
        Some(Value::Array(all)) => all
            .iter()
            .map(|v| v.as_str().map(str::to_owned).ok_or_else(wrong))
            .collect(),
        Some(_) => Err(wrong()),
    }
}

/// Filters and the frames that have them.
fn filters_of(table: &Table) -> Result<BTreeMap<String, Vec<String>>, String> {
    let Some(value) = table.get("filters") else {
        return Ok(BTreeMap::new());
    };
    let own = value
        .as_table()
        .ok_or("'filters' is a section: [filters], and below it Ha = \"ha_*.fits\"")?;
    own.keys()
        .map(|name| Ok((name.clone(), list_of(own, name)?)))
        .collect()
}

/// Tells where something stands in the text.
struct Place<'a> {
    text: &'a str,
}

impl Place<'_> {
    /// The line that a key begins, as the start of a sentence.
    fn line(&self, key: &str) -> String {
        let begins = |line: &str| {
            let line = line.trim_start().trim_start_matches('[');
            line.strip_prefix(key)
                .is_some_and(|rest| rest.trim_start().starts_with(['=', ']', '.']))
        };
        let at = self.text.lines().position(begins);
        at.map_or(String::new(), |n| format!("line {}: ", n + 1))
    }

    fn unknown(&self, key: &str, within: &str, known: &[&str]) -> String {
        let within = if within.is_empty() {
            String::new()
        } else {
            format!(" in {within}")
        };
        let spelled = spelled(key);
        format!(
            "{}'{key}'{within} is not known. {}It may hold {}",
            self.line(key),
            did_you_mean(&spelled, known.iter().copied()),
            known.join(", ")
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_sky::garble::{Garble, runs};
    use rstest::rstest;

    fn of(text: &str) -> Result<Recipe, String> {
        read(text, Path::new("/a/b"))
    }

    #[test]
    fn a_recipe_is_read_and_options_become_words() {
        let recipe = of("format = 1\nframes = ['night', '/x/*.fits']\npalettes = ['SHO']\n\
            [stack]\nreject = 'winsorized'\nreject_high = 3.0\nweight = ['a=0.5', 'b=2']\nsurvey = true\nno-report = false\n\
            [[picture]]\npalette = 'HOO'\nname = 'soft'\nfinish = { saturation = 1.2 }\n")
        .unwrap();
        let words = words(&recipe.of("stack"));
        let words: Vec<&str> = words.iter().filter_map(|w| w.to_str()).collect();
        assert_eq!(
            words,
            [
                "--reject=winsorized",
                "--reject-high=3.0",
                "--survey",
                "--weight=a=0.5",
                "--weight=b=2"
            ]
        );
        assert_eq!(recipe.path("night"), Path::new("/a/b/night"));
        assert_eq!(recipe.path("/x/*.fits"), Path::new("/x/*.fits"));
        let parts: Vec<String> = recipe
            .pictures()
            .iter()
            .map(|p| p.part().to_owned())
            .collect();
        assert_eq!(parts, ["SHO", "soft"]);
    }

    #[rstest]
    #[case(
        "format = 1\nframes = ['a']\npaletes = ['SHO']",
        "line 3: 'paletes' is not known. Did you mean palettes?"
    )]
    #[case(
        "format = 1\nframes = ['a']\n[stack]\nrejct = 'sigma'",
        "line 4: 'rejct' in [stack] is not known. Did you mean reject?"
    )]
    #[case(
        "format = 1\nframes = ['a']\n[stack]\nreject = 'sgima'",
        "line 4: [stack] reject: invalid value 'sgima'"
    )]
    #[case(
        "format = 1\nframes = ['a']\n[stack]\nout = 'x'",
        "'out' in [stack] is not known"
    )]
    #[case(
        "format = 1\nframes = ['a']\n[stack.for.OIII]\nkernel = 'cubic'",
        "line 4: [stack.for.OIII] kernel: this holds for all filters"
    )]
    #[case(
        "format = 1\nframes = ['a']\n[stack.for.east]\nrejct = 'sigma'",
        "line 4: 'rejct' in [stack.for.east] is not known. Did you mean reject?"
    )]
    #[case(
        "format = 1\nframes = ['a']\n[calibrate.for.Ha]\nreject-low = 3",
        "'reject-low' in [calibrate.for.Ha] is not known"
    )]
    #[case(
        "format = 1\nframes = ['a']\n[calibrate.for.Ha]\ncosmic-rays = true",
        "[calibrate.for.Ha]: calibrate takes all filters together"
    )]
    #[case(
        "format = 1\nframes = ['a']\n[survey.for.Ha]\nkeep = '1'",
        "line 4: [survey.for.Ha] keep: this holds for all filters; of one filter alone there may be keep-best"
    )]
    #[case(
        "format = 2\nframes = ['a']",
        "format = 2: this program reads format 1"
    )]
    #[case("frames = ['a']", "it has no 'format = 1'")]
    #[case("format = 1", "'frames' names no folder")]
    #[case("format = 1\nframes = ['a'\n", "line 2:")]
    #[case(
        "format = 1\nframes = ['a']\npalettes = ['SHO', 'sho']",
        "two pictures are called 'sho'"
    )]
    fn slips_are_told_with_their_line(#[case] text: &str, #[case] want: &str) {
        let error = of(text).unwrap_err();
        assert!(error.contains(want), "{error}");
    }

    /// Tries where nothing else is asked for: each asks the command lines of several commands.
    const USUAL: u64 = 400;

    #[test]
    fn no_spoilt_recipe_harms_its_reader() {
        let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus/recipes");
        let mut garble = Garble::of_folder(&corpus);
        let (runs, mut taken) = (runs(USUAL), 0);
        for number in 0..runs {
            let bytes = garble.bytes(number);
            match of(&String::from_utf8_lossy(&bytes)) {
                Ok(recipe) => taken += u64::from(!recipe.frames.is_empty()),
                Err(e) => assert!(!e.trim().is_empty(), "{number}"),
            }
        }
        assert!(
            taken > runs / 50 && taken < runs - runs / 20,
            "{taken} of {runs}"
        );
    }
}
