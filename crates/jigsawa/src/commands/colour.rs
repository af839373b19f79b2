//! From merged filters to a finished colour picture in one command: what `compose` and `finish` do after each other.

use std::path::{Path, PathBuf};

use crate::cli::{Common, ComposeArgs, CropArg, FinishArgs};
use crate::commands::composite::of_masters;
use crate::commands::finish;
use jigsawa_work::clock::Output;
use jigsawa_work::compose::choose;
use jigsawa_work::frames::Frame;
use jigsawa_work::outputs::are_free;
use jigsawa_work::trouble::Trouble;

/// A colour picture that will be made of merged filters.
pub struct Colour {
    composing: ComposeArgs,
    linear: PathBuf,
    pictures: Vec<PathBuf>,
    overwrite: bool,
}

impl Colour {
    /// Where a palette is given, checks it before the long work by the frames that will be merged, and that nothing is in
    /// the way in the folder, under names that begin so.
    pub fn asked(
        palette: Option<&String>,
        merged: &[PathBuf],
        frames: &[Frame],
        (folder, start): (&Path, &str),
        overwrite: bool,
    ) -> Result<Option<Self>, Trouble> {
        let Some(palette) = palette else {
            return Ok(None);
        };
        let mut words = vec!["compose".to_owned()];
        words.extend(merged.iter().map(|p| p.display().to_string()));
        let fixed = [
            "--palette",
            palette,
            "--name",
            start,
            "--linear-only",
            "--out",
        ];
        words.extend(fixed.map(str::to_owned));
        words.push(folder.display().to_string());
        if overwrite {
            words.push("--overwrite".to_owned());
        }
        let composing = ComposeArgs::typed(&words);
        let chosen = choose(&composing.colours(), frames)?;
        let [one] = &chosen[..] else {
            return Err(Trouble::Options(
                "--palette takes one palette here: name one of the file's with FILE#NAME",
            ));
        };
        let linear = folder.join(format!("{start}-{}.fits", one.name));
        let pictures: Vec<PathBuf> = ["png", "tif"].map(|e| linear.with_extension(e)).to_vec();
        let mut there: Vec<PathBuf> = vec![linear.clone()];
        there.extend(pictures.clone());
        are_free(&there, overwrite)?;
        Ok(Some(Self {
            composing,
            linear,
            pictures,
            overwrite,
        }))
    }

    /// Makes it of the merged frames, which are there now.
    pub fn make(
        &self,
        crop: CropArg,
        no_report: bool,
        common: &Common,
    ) -> Result<Vec<Output>, Trouble> {
        let mut outputs = of_masters(&self.composing, common)?.outputs;
        let finishing = FinishArgs {
            crop,
            frames: vec![self.linear.clone()],
            out: self.pictures.clone(),
            overwrite: self.overwrite,
            no_report,
            compress_range: 1.0,
            ..FinishArgs::usual()
        };
        outputs.extend(finish::make(&finishing, common)?.outputs);
        Ok(outputs)
    }
}
