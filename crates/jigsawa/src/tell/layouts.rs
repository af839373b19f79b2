//! Sentences about layouts.

use jigsawa_core::layout::LayoutError;

use super::Trouble;
use super::parts::{Sentence, list, plain};

/// The trouble in words; of others nothing.
pub(super) fn of_layout(trouble: &Trouble) -> Sentence {
    match trouble {
        Trouble::LayoutText { file, error } => plain(format!(
            "the layout '{}' cannot be read: {error}",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("Mend that place, or make the layout anew from the frames."),
        Trouble::Layout { file, line, error } => plain(format!(
            "the layout '{}' cannot be used{}: {error}",
            file.display(),
            line.map_or(String::new(), |n| format!(", line {n}"))
        ))
        .on(file.display().to_string())
        .mend(if matches!(error, LayoutError::Newer(_)) {
            "Use the version of the program that wrote it, or make it anew from the frames."
        } else {
            "Mend that place, or make the layout anew from the frames."
        }),
        Trouble::Moved { layout, files } => {
            let names: Vec<String> = files.iter().map(|f| format!("'{}'", f.display())).collect();
            let folder = files[0].parent().filter(|f| !f.as_os_str().is_empty());
            let (old, new) = match folder {
                Some(folder) => (folder, "NEW_FOLDER"),
                None => (files[0].as_path(), "NEW_FILE"),
            };
            plain(format!(
                "frames of the layout '{}' are not where it says: {}",
                layout.display(),
                list(&names)
            ))
            .on(files[0].display().to_string())
            .mend(format!(
                "Say where they are now: --relocate {}={new}",
                old.display()
            ))
        }
        Trouble::Relocation { old, file } => plain(format!(
            "--relocate names '{old}', where no frame of the layout lies"
        ))
        .mend(format!(
            "Write the start of a path as the layout has it; its first frame is '{file}'."
        )),
        Trouble::OnlyWithLayout(option) => plain(format!("{option} has no effect on frames"))
            .mend("It goes with a layout, whose frames may have moved."),
        Trouble::LayoutFrame {
            layout,
            file,
            problem,
        } => plain(format!(
            "'{file}' is not what the layout '{}' says: {problem}",
            layout.display()
        ))
        .on(file.clone())
        .mend("Make the layout anew from the frames."),
        Trouble::NotWithLayout(option) => plain(format!(
            "{option} has no effect on a layout, which is already made"
        ))
        .mend("Give the frames instead of the layout, or leave the option out."),
        Trouble::AlreadyPlaced(file) => plain(format!(
            "the frames of '{}' are placed already",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("Give it to compose; or add frames to it: jigsawa register FRAMES --into LAYOUT"),
        Trouble::NotPlaced(file) => plain(format!(
            "'{}' is a survey's layout: it has no canvas to add frames to",
            file.display()
        ))
        .on(file.display().to_string())
        .mend(format!(
            "Register its frames first: jigsawa register {} --out FOLDER",
            file.display()
        )),
        Trouble::InTheLayout {
            layout,
            file,
            known,
        } => plain(format!(
            "'{file}' stands in the layout '{}' already{}",
            layout.display(),
            if file == known {
                String::new()
            } else {
                format!(", as '{known}'")
            }
        ))
        .on(file.clone())
        .mend("Give only the frames that are new."),
        Trouble::LayoutAlone => plain("a layout is given together with other files".to_owned())
            .mend("Give one layout alone, or frames only."),
        _ => plain(String::new()),
    }
}
