//! A page as a file.

use std::path::Path;

use jigsawa_formats::whole::Unfinished;
use maud::{DOCTYPE, Markup, PreEscaped, html};

use jigsawa_work::outputs::filled;
use jigsawa_work::trouble::Trouble;

const STYLE: &str = include_str!("page.css");

/// A whole page: title, what its own style adds, and its body.
pub fn whole(title: &str, style: &str, body: &Markup) -> Markup {
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (title) }
                style { (PreEscaped(STYLE)) (PreEscaped(style)) }
            }
            body {
                (body)
                footer { "Made by Jigsawa " (env!("CARGO_PKG_VERSION")) ". The page holds all it needs and sends nothing." }
            }
        }
    }
}

/// Writes a page, under a temporary name still.
pub fn save(path: &Path, page: Markup, overwrite: bool) -> Result<Unfinished, Trouble> {
    filled(path, page.into_string().as_bytes(), overwrite)
}
