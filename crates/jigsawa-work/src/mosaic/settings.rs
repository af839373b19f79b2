//! What is wanted of a mosaic's places.

use std::path::Path;

use jigsawa_core::wcs::Projection;

/// What is wanted of a mosaic's places.
#[derive(Debug, Clone, Copy)]
pub struct MosaicSettings<'a> {
    /// The frame whose pixels the canvas continues; the one in the middle where none is named.
    pub reference: Option<&'a str>,
    /// Frames whose panels are named.
    pub panels: &'a [(String, String)],
    /// Where in a file's name its panel stands: a pattern with PANEL in it.
    pub panel_names: Option<&'a str>,
    /// The layout that new frames are added to.
    pub into: Option<&'a Path>,
    /// Is only what all filters cover kept?
    pub inner: bool,
    /// Canvas pixels for one of the reference.
    pub scale: f64,
    /// Is the canvas turned so that north is up?
    pub north_up: bool,
    /// The kind of plane; by the field's width where none is named.
    pub projection: Option<Projection>,
}
