//! What the terminal shows: log, progress, and the account as text.

mod progress;
mod survey;
mod table;

pub use progress::Progress;
pub use survey::{Look, survey_text, width};
pub use table::account_text;

use std::fmt::Write as _;
use std::io::{IsTerminal, Write};

use tracing::level_filters::LevelFilter;

use crate::account::{Account, Output, Stage};
use crate::cli::Common;

/// Prints on standard output. A reader that has gone away (`| head`) is no error, and nobody is left
/// to tell of another.
pub fn say(text: &str) {
    let mut out = std::io::stdout().lock();
    if let Err(e) = writeln!(out, "{text}").and_then(|()| out.flush()) {
        tracing::debug!("standard output takes no more: {e}");
    }
}

/// What was written and how long it took, as the last lines of an account.
pub fn written(outputs: &[Output], stages: &[Stage], seconds: f64) -> String {
    let mut out = String::new();
    for o in outputs {
        // Writing to a string cannot fail.
        let _ = writeln!(out, "wrote      {}  {}", o.file, o.kind);
    }
    let stages: Vec<String> = stages
        .iter()
        .map(|s| format!("{} {:.2}", s.name, s.seconds))
        .collect();
    let _ = writeln!(out, "took       {seconds:.2} s: {}", stages.join(", "));
    out
}

/// Prints the account of a command as it is wanted: as JSON, as text, or not at all.
pub fn tell_account(account: &Account, common: &Common) {
    if common.json {
        say(&serde_json::to_string_pretty(account).unwrap_or_default());
    } else if !common.quiet {
        say(account_text(account).trim_end());
    }
}

/// Is colour wanted on standard error?
fn coloured() -> bool {
    std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty()) && std::io::stderr().is_terminal()
}

/// Starts the log on standard error: warnings, with -v what is done, with -vv details.
pub fn start_log(common: &Common) {
    let level = match (common.quiet, common.verbose) {
        (true, _) => LevelFilter::ERROR,
        (_, 0) => LevelFilter::WARN,
        (_, 1) => LevelFilter::INFO,
        _ => LevelFilter::DEBUG,
    };
    tracing_subscriber::fmt()
        .with_max_level(level)
        .with_writer(std::io::stderr)
        .with_ansi(coloured())
        .with_target(false)
        .without_time()
        .init();
}

/// Sets the number of threads of all parallel work.
pub fn set_threads(threads: Option<u16>) -> Result<(), rayon::ThreadPoolBuildError> {
    let mut pool = rayon::ThreadPoolBuilder::new();
    if let Some(n) = threads {
        pool = pool.num_threads(usize::from(n));
    }
    pool.build_global()
}
