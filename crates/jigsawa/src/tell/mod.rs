//! Errors into sentences: what, where, how to mend it, with the thing to type.
//!
//! Which exit code each has is decided in one place, at the end of this file.

pub mod calibrating;
mod gathered;
mod hints;
mod layouts;
mod parts;
mod running;
mod sentences;

pub use gathered::gathered;
pub use parts::did_you_mean;

use std::process::ExitCode;

use jigsawa_work::trouble::Trouble;

use crate::cli::Common;
use crate::terminal::{complain, say};
use sentences::tell;

/// Prints what the command line's parser says: as it comes, or as the one JSON document.
pub fn usage(error: &clap::Error, json: bool) -> ExitCode {
    // Help and version come the same way, and are no error.
    if json && error.use_stderr() {
        let text = error.to_string();
        let (message, hint) = text.split_once("\n\n").unwrap_or((&text, ""));
        let error = serde_json::json!({ "error": {
            "message": message.trim_start_matches("error: ").trim(),
            "file": null,
            "hint": hint.trim(),
        } });
        say(&format!("{error:#}"));
    } else if let Err(e) = error.print() {
        tracing::debug!("the terminal takes no more: {e}");
    }
    ExitCode::from(if error.use_stderr() { 2 } else { 0 })
}

/// A trouble in one sentence.
pub fn sentence(trouble: &Trouble) -> String {
    tell(trouble).message
}

/// A trouble in words, and what would mend it.
pub fn in_words(trouble: &Trouble) -> (String, Option<String>) {
    let told = tell(trouble);
    (told.message, told.hint)
}

/// Prints the trouble where its user looks for it, and gives the exit code.
pub fn failure(trouble: &Trouble, common: &Common) -> ExitCode {
    let told = tell(trouble);
    if common.json {
        let error = serde_json::json!({
            "error": { "message": told.message, "file": told.file, "hint": told.hint }
        });
        say(&format!("{error:#}"));
    } else {
        complain(&format!("jigsawa: {}", told.message));
        if let Some(hint) = told.hint {
            complain(&hint);
        }
    }
    ExitCode::from(exit_code(trouble))
}

/// 2 where the command line itself is wrong, 1 where the work could not be done.
fn exit_code(trouble: &Trouble) -> u8 {
    match trouble {
        Trouble::FilterName(_)
        | Trouble::FilterOfColour(_)
        | Trouble::NoSuchFrame { .. }
        | Trouble::NoSuchFilter { .. }
        | Trouble::Twice(_)
        | Trouble::Palette(_)
        | Trouble::NoSuchVariant { .. }
        | Trouble::Mix { .. }
        | Trouble::MixName { .. }
        | Trouble::NotWithLayout(_)
        | Trouble::OnlyWithLayout(_)
        | Trouble::FewPairs { .. }
        | Trouble::Relocation { .. }
        | Trouble::LayoutAlone
        | Trouble::AlreadyPlaced(_)
        | Trouble::Recipe { .. }
        | Trouble::RecipeEdited(_)
        | Trouble::NothingGiven
        | Trouble::Targets { .. }
        | Trouble::NoSuchStep { .. }
        | Trouble::StepOptions { .. }
        | Trouble::NotPlaced(_)
        | Trouble::NoMosaic(_)
        | Trouble::Options(_)
        | Trouble::OffCanvas { .. }
        | Trouble::TwoLevels { .. }
        | Trouble::InTheLayout { .. }
        | Trouble::Pattern { .. }
        | Trouble::Keep { .. }
        | Trouble::Column { .. }
        | Trouble::DryRunOfNothing
        | Trouble::NeedsTwo(_)
        | Trouble::Region { .. }
        | Trouble::OutsideOf { .. }
        | Trouble::CaptionField(_)
        | Trouble::Ending(_)
        | Trouble::IsInput { .. }
        | Trouble::NoSuchGroup { .. }
        | Trouble::FollowOnce
        | Trouble::Name(_) => 2,
        _ => 1,
    }
}
