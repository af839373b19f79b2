//! Copying the kept lights, or moving the others away: only when asked, never over anything.

use std::fs;
use std::path::{Path, PathBuf};

use jigsawa_core::frame::Kind;
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::whole::Unfinished;

use super::night::Night;
use crate::outputs::make_folder;
use crate::tell::Trouble;

/// What is to be carried where.
#[derive(Debug)]
pub struct Plan {
    /// From, to.
    pub files: Vec<(PathBuf, PathBuf)>,
    /// The originals go away.
    pub moves: bool,
    /// The folder that they go to.
    pub folder: PathBuf,
}

/// Plans it; nothing is touched. Lights only: calibration frames, and files that cannot be read, stay
/// where they are.
pub fn plan(night: &Night, folder: &Path, moves: bool) -> Result<Plan, Trouble> {
    let wanted = |i: &usize| {
        let kept = night.judged[*i].verdict == Verdict::Used;
        night.facts[*i].kind == Kind::Light && kept != moves
    };
    let files: Vec<(PathBuf, PathBuf)> = (0..night.files.len())
        .filter(wanted)
        .map(|i| {
            let file = &night.files[i];
            (file.path.clone(), folder.join(&file.relative))
        })
        .collect();
    let there: Vec<PathBuf> = files
        .iter()
        .map(|(_, to)| to)
        .filter(|to| to.exists())
        .cloned()
        .collect();
    if !there.is_empty() {
        return Err(Trouble::InTheWay(there));
    }
    let mut targets: Vec<&PathBuf> = files.iter().map(|(_, to)| to).collect();
    targets.sort();
    if let Some(two) = targets.windows(2).find(|two| two[0] == two[1]) {
        return Err(Trouble::SameName(two[0].clone()));
    }
    Ok(Plan {
        files,
        moves,
        folder: folder.to_owned(),
    })
}

/// Does it. A copy is whole or not there; what fails in the middle says how far it came.
pub fn carry(plan: &Plan) -> Result<(), Trouble> {
    for (done, (from, to)) in plan.files.iter().enumerate() {
        make_folder(to.parent().unwrap_or(&plan.folder))?;
        one(from, to, plan.moves).map_err(|error| Trouble::Carry {
            from: from.clone(),
            to: to.clone(),
            error: error.to_string(),
            done,
            of: plan.files.len(),
        })?;
    }
    Ok(())
}

fn one(from: &Path, to: &Path, moves: bool) -> Result<(), Box<dyn std::error::Error>> {
    // A rename would go over a file that has appeared meanwhile.
    if moves && !to.exists() && fs::rename(from, to).is_ok() {
        return Ok(());
    }
    let part = Unfinished::new(to, false)?;
    fs::copy(from, part.path())?;
    part.finish()?;
    if moves {
        fs::remove_file(from)?;
    }
    Ok(())
}
