//! Masters of several filters merged into a linear colour picture by a palette.
//!
//!     cargo run --example 1_palette -- HOO hoo.fits ha.fits oiii.fits

use std::path::{Path, PathBuf};

use jigsawa_core::colour::{Lines, Luminance};
use jigsawa_core::resample::Shape;
use jigsawa_formats::fits::Cards;
use jigsawa_work::compose::{
    Bound, Colours, Inputs, Placing, bind, choose, composite, lay_out, linear, strengths,
};
use jigsawa_work::frames::Filters;
use jigsawa_work::run::Run;
use jigsawa_work::start::start;
use jigsawa_work::trouble::Trouble;

/// Registers, balances and mixes the frames; every pixel is interpolated once, on its way into the file.
pub(crate) fn merged(palette: &str, to: &Path, files: &[PathBuf]) -> Result<(), Trouble> {
    let run = Run::unwatched(256 << 20)?;
    let folder = to.parent().unwrap_or(Path::new("."));
    let begun = start(files, &[], &[], Filters::Known, folder)?;
    let names = [palette.to_owned()];
    let colours = Colours {
        palettes: &names,
        ..Colours::default()
    };
    let palette = choose(&colours, &begun.frames)?.remove(0);
    let placing = Placing {
        reference: None,
        canvas: None,
        layered: false,
    };
    let (frames, layout) = lay_out(begun, &[], &placing, &run)?;
    let bound: Bound = bind(&palette, &frames, Some(&layout))?;
    let inputs = Inputs {
        frames: &frames,
        shape: Shape::Lanczos3,
        softened: Vec::new(),
        catalogues: vec![None; frames.len()],
    };
    let lines = (Lines::EqualSignal, &[][..]);
    let strengths = strengths(lines, &layout, &frames, &bound.inputs(), &inputs)?;
    let weight = Luminance { weight: 1.0 };
    let op = composite(&bound, &layout, &strengths, weight, false).ok_or(Trouble::Nothing)?;
    let cards = Cards::default();
    let file = linear(to, false, &cards, (&bound, &op), &layout, &inputs, &run)?;
    file.finish().map_err(|error| Trouble::Write {
        file: to.to_owned(),
        error,
    })?;
    Ok(())
}

#[allow(dead_code)]
fn main() -> Result<(), Trouble> {
    let mut words = std::env::args().skip(1);
    let (Some(palette), Some(to)) = (words.next(), words.next()) else {
        return Err(Trouble::Options("PALETTE OUTPUT FRAME …"));
    };
    let files: Vec<PathBuf> = words.map(PathBuf::from).collect();
    merged(&palette, Path::new(&to), &files)
}
