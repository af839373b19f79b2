//! Sentences about recipes and runs.

use super::Trouble;
use super::parts::{Sentence, did_you_mean, list, plain};

/// The trouble in words; of others nothing.
pub(super) fn of_run(trouble: &Trouble) -> Sentence {
    match trouble {
        Trouble::Recipe { file, error } => {
            plain(format!("the recipe '{}' cannot be used: {error}", file.display()))
                .on(file.display().to_string())
                .mend("docs/recipe.md explains every key; 'jigsawa check --schema' prints them for an editor.")
        }
        Trouble::RecipeEdited(file) => plain(format!(
            "'{}' was changed since a run has written it",
            file.display()
        ))
        .on(file.display().to_string())
        .mend(format!(
            "'jigsawa run {}' goes by it; --overwrite writes it anew from what is typed; --out takes another folder.",
            file.display()
        )),
        Trouble::NothingGiven => plain("nothing is given to run, and there is no jigsawa.toml here".to_owned())
            .mend("Give a folder of frames, or a recipe: jigsawa run night/"),
        Trouble::Targets { wanted, targets } => {
            let all: Vec<String> = targets.iter().map(|(t, n)| format!("{t} ({n})")).collect();
            let first = targets.first().map_or("NAME", |t| t.0.as_str());
            let message = match wanted {
                Some(name) => format!("no frame is of '{name}'"),
                None => format!("the frames show {} targets", targets.len()),
            };
            let near = wanted.as_ref().map_or(String::new(), |name| {
                did_you_mean(name, targets.iter().map(|t| t.0.as_str()))
            });
            plain(message).mend(format!(
                "{near}There are {}. --target \"{first}\" takes one of them; each target has a folder of its own (--out).",
                list(&all)
            ))
        }
        Trouble::NoLights(found) => plain(format!(
            "none of the {found} frames that were found is a light or a master"
        ))
        .mend("Biases, darks and flats alone become masters with 'jigsawa calibrate'."),
        Trouble::RunUnderWay(folder) => plain(format!(
            "another run is under way in '{}'",
            folder.display()
        ))
        .on(folder.display().to_string())
        .mend("Wait for its end, or take another folder with --out."),
        Trouble::NoSuchStep { step, steps } => plain(format!("--again names '{step}', which is no step"))
            .mend(format!(
                "{}The steps are {}.",
                did_you_mean(step, steps.iter().map(String::as_str)),
                list(steps)
            )),
        Trouble::StepReadsNothing(step) => plain(format!(
            "the step '{step}' has nothing to work on: what it needs was not made"
        ))
        .mend("'jigsawa check' shows the steps; --again STEP does one anew."),
        Trouble::StepOptions { step, error } => {
            let first = error.lines().next().unwrap_or_default();
            plain(format!("the step '{step}' cannot be done with its options: {first}"))
                .mend("Mend them in the recipe: 'jigsawa help COMMAND' lists a command's options.")
        }
        _ => plain(String::new()),
    }
}
