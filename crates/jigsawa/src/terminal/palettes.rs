//! The palettes that come with the program, as a table.

use comfy_table::{ContentArrangement, Table, presets};
use jigsawa_core::colour::Palette;
use jigsawa_core::colour::mix::Mix;

/// The palettes as a table: name, what it needs, what it is for.
pub fn palette_table() -> String {
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
