//! The account of `finish` as text.

use std::fmt::Write as _;

use super::{Own, written};
use crate::account::{FinishAccount, Finished};

impl Own for Finished {
    fn text(account: &FinishAccount) -> String {
        finish_text(account)
    }
}

/// The account as text.
fn finish_text(a: &FinishAccount) -> String {
    let mut out = String::new();
    let p = &a.own.picture;
    // Writing to a string cannot fail.
    let _ = writeln!(
        out,
        "picture    {}, {} x {} pixels, {} stars of {:.2} px",
        p.file, p.width, p.height, p.stars, p.fwhm_px
    );
    let widest = a.own.steps.iter().map(|s| s.step.len()).max().unwrap_or(0);
    let _ = writeln!(out);
    for s in &a.own.steps {
        let mark = if s.acts { "*" } else { " " };
        let _ = writeln!(out, "{mark} {:<widest$}  {}", s.step, s.said);
    }
    for w in &a.warnings {
        let _ = writeln!(out, "\nnote       {w}");
    }
    let _ = writeln!(out);
    out.push_str(&written(&a.outputs, &a.stages, a.seconds));
    out
}
