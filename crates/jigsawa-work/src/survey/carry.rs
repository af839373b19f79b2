//! Copying the kept lights, or moving the others away: only when asked, never over anything.

use std::path::{Path, PathBuf};

use jigsawa_core::frame::Kind;
use jigsawa_core::verdict::Verdict;

use super::journal::Journal;
use super::night::Night;
use super::transfer::{are_same, copy_new};
use crate::outputs::make_folder;
use crate::trouble::Trouble;

/// What is to be carried where.
#[derive(Debug)]
pub struct Plan {
    /// From, to.
    pub files: Vec<(PathBuf, PathBuf)>,
    /// Files that an earlier run has copied already.
    pub copied: usize,
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
    let mut files: Vec<(PathBuf, PathBuf)> = (0..night.files.len())
        .filter(wanted)
        .map(|i| {
            let file = &night.files[i];
            (file.path.clone(), folder.join(&file.relative))
        })
        .collect();
    let mut targets: Vec<&PathBuf> = files.iter().map(|(_, to)| to).collect();
    targets.sort();
    if let Some(two) = targets.windows(2).find(|two| two[0] == two[1]) {
        return Err(Trouble::SameName(two[0].clone()));
    }
    let all = files.len();
    if !moves {
        files.retain(|(from, to)| !(to.exists() && are_same(from, to)));
    }
    let there: Vec<PathBuf> = files
        .iter()
        .map(|(_, to)| to)
        .filter(|to| to.symlink_metadata().is_ok())
        .cloned()
        .collect();
    if !there.is_empty() {
        return Err(Trouble::InTheWay(there));
    }
    Ok(Plan {
        copied: all - files.len(),
        files,
        moves,
        folder: folder.to_owned(),
    })
}

/// Does it. A copy is whole or not there; what fails in the middle says how far it came. Moves are written down first.
pub fn carry(plan: &Plan) -> Result<(), Trouble> {
    if plan.moves {
        if !plan.files.is_empty() {
            Journal::begin(&plan.folder, &plan.files)?.carry_out()?;
        }
        return Ok(());
    }
    for (done, (from, to)) in plan.files.iter().enumerate() {
        make_folder(to.parent().unwrap_or(&plan.folder))?;
        copy_new(from, to).map_err(|error| Trouble::Carry {
            from: from.clone(),
            to: to.clone(),
            error: error.to_string(),
            done,
            of: plan.files.len(),
            journal: None,
        })?;
    }
    Ok(())
}
