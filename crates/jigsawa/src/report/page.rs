//! A page: its head, sections that all look alike, and its foot. It needs nothing but itself.

use std::path::Path;

use jigsawa_formats::whole::Unfinished;
use maud::{DOCTYPE, Markup, PreEscaped, Render, html};

use jigsawa_work::frames::Spoilt;
use jigsawa_work::outputs::filled;
use jigsawa_work::trouble::Trouble;

const STYLE: &str = include_str!("style.css");

/// A page in the making.
pub struct Page {
    title: String,
    heading: String,
    lead: Markup,
    parts: Vec<Markup>,
    script: &'static str,
    /// Its pictures are files beside it.
    beside: bool,
}

impl Page {
    /// A page with what stands in the window's title and over the page, and what it begins with.
    pub fn new(title: impl Into<String>, heading: impl Into<String>, lead: Markup) -> Self {
        Self {
            title: title.into(),
            heading: heading.into(),
            lead,
            parts: Vec::new(),
            script: "",
            beside: false,
        }
    }

    /// With a script that it runs at its end.
    pub fn script(mut self, script: &'static str) -> Self {
        self.script = script;
        self
    }

    /// With pictures that are files beside it.
    pub const fn with_files(mut self) -> Self {
        self.beside = true;
        self
    }

    /// Adds a section or what stands between two.
    pub fn add(&mut self, part: Markup) {
        self.parts.push(part);
    }

    /// All up to its foot, for a page whose end is written piece by piece.
    pub fn beginning(&self) -> String {
        let page = html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    title { (self.title) }
                    style { (PreEscaped(STYLE)) }
                }
                body {
                    header { h1 { (self.heading) } (self.lead) }
                    @for part in &self.parts { (part) }
                }
            }
        };
        let page = page.into_string();
        page.trim_end_matches("</body></html>").to_owned()
    }

    /// Its foot; `data` is JSON that the script reads.
    pub fn end(&self, data: Option<&str>) -> String {
        let foot = html! {
            footer {
                "Made by Jigsawa " (env!("CARGO_PKG_VERSION"))
                @if self.beside { ". Its pictures lie beside it, and it sends nothing." }
                @else { ". The page holds all it needs and sends nothing." }
            }
            @if let Some(data) = data {
                // A name in the data must not end the script.
                script type="application/json" id="data" { (PreEscaped(data.replace('<', "\\u003c"))) }
            }
            @if !self.script.is_empty() { script { (PreEscaped(self.script)) } }
        };
        format!("{}\n</body></html>\n", foot.into_string())
    }

    /// Writes it, under a temporary name still.
    pub fn save(&self, path: &Path, overwrite: bool) -> Result<Unfinished, Trouble> {
        let page = self.beginning() + &self.end(None);
        filled(path, page.as_bytes(), overwrite)
    }
}

/// A section under a heading, to which links lead by its name.
pub fn section(id: &str, heading: impl Render, body: &Markup) -> Markup {
    let id = id.replace(char::is_whitespace, "-");
    let of_heading = format!("{id}-h");
    html! {
        section id=(id) aria-labelledby=(of_heading) {
            h2 id=(of_heading) { (heading) }
            (body)
        }
    }
}

/// Files that could not be used: no frame of the layout stands for them.
pub fn spoilt(files: &[Spoilt]) -> Markup {
    html! {
        @for s in files { p.doubt { b { (s.file) } " is left out: it cannot be used: " (s.reason) } }
    }
}

/// How something came out, as a small label.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Chip {
    Good,
    Doubt,
    Bad,
    Plain,
}

impl Chip {
    /// With its words.
    pub fn says(self, words: impl Render) -> Markup {
        let class = match self {
            Self::Good => "chip good",
            Self::Doubt => "chip maybe",
            Self::Bad => "chip bad",
            Self::Plain => "chip",
        };
        html! { span class=(class) { (words) } " " }
    }
}
