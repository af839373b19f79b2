//! A recipe as a text, with what was decided and why beside it.

use std::fmt::Write as _;

use super::{FORMAT, Recipe};

/// The text. `why` are sentences of what was decided, which stand over it.
pub fn written(recipe: &Recipe, why: &[String]) -> String {
    let mut out = String::from(
        "# A project of jigsawa: 'jigsawa run' with this file makes its results again, and only what has changed.\n\
         # Paths are as seen from this file. docs/recipe.md explains every key; a section holds the options of the command of\n\
         # its name, as 'jigsawa help COMMAND' lists them.\n",
    );
    for line in why {
        let _ = writeln!(out, "# - {line}");
    }
    let text = |s: &str| toml::Value::String(s.to_owned()).to_string();
    let list = |all: &[String]| {
        let all: Vec<String> = all.iter().map(|s| text(s)).collect();
        format!("[{}]", all.join(", "))
    };
    let _ = writeln!(out, "\nformat = {FORMAT}");
    for (key, value) in [("name", &recipe.name), ("target", &recipe.target)] {
        if let Some(value) = value {
            let _ = writeln!(out, "{key} = {}", text(value));
        }
    }
    let _ = writeln!(out, "frames = {}", list(&recipe.frames));
    let _ = writeln!(out, "out = {}", text(&recipe.out));
    for (key, value) in [("library", &recipe.library), ("memory", &recipe.memory)] {
        if let Some(value) = value {
            let _ = writeln!(out, "{key} = {}", text(value));
        }
    }
    if let Some(panels) = recipe.panels {
        let _ = writeln!(out, "panels = {panels}");
    }
    let _ = writeln!(out, "palettes = {}", list(&recipe.palettes));
    if !recipe.filters.is_empty() {
        out.push_str("\n[filters]\n");
    }
    for (filter, patterns) in &recipe.filters {
        let _ = writeln!(out, "{} = {}", text(filter), list(patterns));
    }
    for (command, options) in &recipe.options {
        let _ = writeln!(out, "\n[{command}]");
        for (key, value) in options {
            let _ = writeln!(out, "{key} = {value}");
        }
    }
    for (command, parts) in &recipe.parts {
        for (part, options) in parts {
            let _ = writeln!(out, "\n[{command}.for.{}]", text(part));
            for (key, value) in options {
                let _ = writeln!(out, "{key} = {value}");
            }
        }
    }
    for p in &recipe.pictures {
        let _ = writeln!(out, "\n[[picture]]\npalette = {}", text(&p.palette));
        if let Some(name) = &p.name {
            let _ = writeln!(out, "name = {}", text(name));
        }
        for (command, options) in [("compose", &p.compose), ("finish", &p.finish)] {
            for (key, value) in options {
                let _ = writeln!(out, "{command}.{key} = {value}");
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::recipe::read;
    use std::path::Path;

    #[test]
    fn what_is_written_is_read_back() {
        let text = "format = 1\nname = 'a \"b\"'\nframes = ['../n']\nout = '.'\nmemory = '1G'\npanels = true\npalettes = ['SHO']\n\
            [filters]\nHa = ['a*', 'b']\n[stack]\nweight = ['a=2']\n[stack.for.OIII]\nreject = 'sigma'\n[[picture]]\npalette = 'HOO'\nname = 'x'\nfinish.saturation = 1.5\ncompose.lines = 'as-is'\n";
        let recipe = read(text, Path::new("/r")).unwrap();
        let again = written(&recipe, &["because".to_owned()]);
        assert_eq!(read(&again, Path::new("/r")).unwrap(), recipe, "{again}");
    }
}
