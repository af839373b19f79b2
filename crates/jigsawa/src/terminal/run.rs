//! The accounts of `run` and `check` as text.

use std::fmt::Write as _;

use super::{Own, written};
use crate::account::{Ending, Ran, RunAccount, StepState};

impl Own for Ran {
    fn text(account: &RunAccount) -> String {
        let mut out = String::new();
        let own = &account.own;
        for (word, lines) in [("decided", &own.decided), ("doubt", &own.doubts)] {
            for line in lines {
                let _ = writeln!(out, "{word:<10} {line}");
            }
        }
        for line in &account.warnings {
            let _ = writeln!(out, "note       {line}");
        }
        if !out.is_empty() {
            out.push('\n');
        }
        let widest = own.steps.iter().map(|s| s.step.len()).max().unwrap_or(0);
        for s in &own.steps {
            let seconds = match s.state {
                StepState::Done | StepState::Failed => format!("{:.1} s", s.seconds),
                StepState::ToDo => format!("about {}", duration(s.seconds)),
                StepState::DoneBefore | StepState::NotReached => String::new(),
            };
            let line = format!(
                "step       {:<widest$}  {:<10} {seconds}",
                s.step,
                s.state.words()
            );
            let _ = writeln!(out, "{}", line.trim_end());
        }
        for line in &own.better {
            let _ = writeln!(out, "better     {line}");
        }
        let to_do = own.steps.iter().any(|s| s.state == StepState::ToDo);
        if own.about_s.is_some() && !to_do {
            out.push_str("\nnothing is to be done: all results are up to date\n");
        } else if let (Some(seconds), Some(mb)) = (own.about_s, own.about_mb) {
            let _ = writeln!(
                out,
                "\nall of it  about {}, {} of results; nothing was written",
                duration(seconds),
                size(mb)
            );
        }
        let done = own.steps.iter().any(|s| s.state == StepState::Done);
        if own.about_s.is_none() && !done {
            out.push_str("\nnothing was to be done: all results are up to date\n");
        }
        if !account.outputs.is_empty() {
            let _ = write!(
                out,
                "\n{}",
                written(&account.outputs, &account.stages, account.seconds)
            );
        }
        if let Some(recipe) = own.recipe.as_ref().filter(|_| done) {
            let _ = writeln!(out, "next       jigsawa run {}", super::quoted(recipe));
        }
        out
    }

    fn ending(&self) -> Ending {
        Ending::of(!self.spoilt.is_empty())
    }
}

/// Seconds, minutes or hours.
pub fn duration(seconds: f64) -> String {
    match seconds {
        s if s < 90.0 => format!("{:.0} s", s.max(1.0)),
        s if s < 5400.0 => format!("{:.0} min", s / 60.0),
        s => format!("{:.1} h", s / 3600.0),
    }
}

fn size(mb: f64) -> String {
    if mb < 1500.0 {
        format!("{mb:.0} MB")
    } else {
        format!("{:.1} GB", mb / 1000.0)
    }
}
