//! Two frames of one field: where the second lies on the first.
//!
//!     cargo run --example 0_two_frames -- ha.fits oiii.fits

use std::path::PathBuf;

use jigsawa_core::layout::Layout;
use jigsawa_work::frames::{Filters, open_all};
use jigsawa_work::register::{CanvasSettings, RegisterSettings, SearchSettings, register};
use jigsawa_work::run::Run;
use jigsawa_work::trouble::Trouble;

/// Registers frames on the first of them; nothing is written.
pub(crate) fn registered(files: &[PathBuf]) -> Result<Layout, Trouble> {
    let frames = open_all(files, &[], Filters::Any)?.frames;
    let run = Run::unwatched(256 << 20)?;
    let [first, _, ..] = &frames[..] else {
        return Err(Trouble::NeedsTwo("register"));
    };
    let first = first.name();
    let wanted = RegisterSettings {
        reference: Some(&first),
        canvas: CanvasSettings::default(),
        needed: &[],
        search: SearchSettings::default(),
    };
    Ok(register(&frames, &wanted, &run)?.layout)
}

#[allow(dead_code)]
fn main() -> Result<(), Trouble> {
    let files: Vec<PathBuf> = std::env::args_os().skip(1).map(PathBuf::from).collect();
    for frame in &registered(&files)?.frames {
        match &frame.placement {
            Some(p) => println!(
                "{}: turned by {:.3} degrees, scale {:.5}, known to {:.3} px in its corners",
                frame.file, p.described.rotation_deg, p.described.scale, p.errors.corner_sigma_px
            ),
            None => println!(
                "{}: {}",
                frame.file,
                frame.verdict.reason().unwrap_or("left out")
            ),
        }
    }
    Ok(())
}
