//! What all plots share: marker colours that become class names, so that the page's style sheet, which knows
//! light and dark, gives the real ones.

use plotters::style::RGBColor;

pub const GRID: RGBColor = RGBColor(1, 2, 3);
pub const AXIS: RGBColor = RGBColor(1, 2, 4);
pub const SERIES: RGBColor = RGBColor(1, 2, 6);

/// A line of SVG with class names in the place of colours.
pub fn classed(line: &str) -> String {
    line.replace("stroke=\"#010203\"", "class=\"grid\"")
        .replace("stroke=\"#010204\"", "class=\"axis\"")
        .replace("fill=\"#010206\"", "class=\"dot s2\"")
        .replace("fill=\"#000000\"", "class=\"label\"")
}

/// The opening tag with a description, and a size that follows the page's.
pub fn opened(line: &str, label: &str, (width, height): (u32, u32)) -> String {
    let label = escaped(label);
    line.replacen(
        "<svg ",
        &format!("<svg role=\"img\" aria-label=\"{label}\" viewBox=\"0 0 {width} {height}\" "),
        1,
    )
    .replace(&format!("viewBox=\"0 0 {width} {height}\" xmlns"), "xmlns")
}

/// Text that may stand in markup.
pub fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('"', "&quot;")
}
