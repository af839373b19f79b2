//! Panels of a mosaic solved together: where each lies, and how well its stars meet those of its neighbours.
//!
//!     cargo run --example 2_panels -- a1.fits a2.fits b1.fits b2.fits

use std::path::PathBuf;

use jigsawa_work::frames::{Filters, open_all};
use jigsawa_work::mosaic::{MosaicSettings, Placed, place};
use jigsawa_work::run::Run;
use jigsawa_work::trouble::Trouble;

/// Places all panels by the stars that they share; nothing is written.
pub(crate) fn solved(files: &[PathBuf]) -> Result<Placed, Trouble> {
    let frames = open_all(files, &[], Filters::Any)?.frames;
    let run = Run::unwatched(256 << 20)?;
    let wanted = MosaicSettings {
        reference: None,
        panels: &[],
        panel_names: None,
        into: None,
        inner: false,
        scale: 1.0,
        north_up: false,
        projection: None,
    };
    place(&frames, &wanted, None, &run)
}

#[allow(dead_code)]
fn main() -> Result<(), Trouble> {
    let files: Vec<PathBuf> = std::env::args_os().skip(1).map(PathBuf::from).collect();
    let placed = solved(&files)?;
    let size = placed.layout.canvas.size;
    println!("canvas {} x {} pixels", size.width(), size.height());
    for tie in &placed.ties {
        let [a, b] = [tie.a, tie.b].map(|i| &placed.layout.frames[i].file);
        println!(
            "{a} and {b}: {} stars meet within {:.3} px",
            tie.stars, tie.rms_px
        );
    }
    Ok(())
}
