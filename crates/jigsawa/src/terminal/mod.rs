//! What the terminal shows: log, progress, and the account as text.

mod calibrate;
mod finish;
mod laid_out;
mod palettes;
mod progress;
mod run;
mod stack;
mod survey;
mod table;

pub use palettes::palette_table;
pub use progress::{begin_step, run, watch};
pub use run::duration;
pub use survey::{TableSettings, survey_text, width};

use std::fmt::Write as _;
use std::io::{IsTerminal, Write};
use std::sync::{Mutex, PoisonError};

use serde::Serialize;
use tracing::level_filters::LevelFilter;

use crate::account::{Ending, Outcome};
use crate::cli::Common;
use jigsawa_work::clock::{Output, Stage};
use jigsawa_work::foreign::readable;

/// What keeps standard output from taking what is said.
static UNSAID: Mutex<Option<std::io::Error>> = Mutex::new(None);

/// Prints on standard output; what steers a terminal is taken out of it. What cannot be printed is told by [`unsaid`].
pub fn say(text: &str) {
    let mut out = std::io::stdout().lock();
    if let Err(e) = writeln!(out, "{}", readable(text)).and_then(|()| out.flush()) {
        *UNSAID.lock().unwrap_or_else(PoisonError::into_inner) = Some(e);
    }
}

/// Prints on standard error.
pub fn complain(text: &str) {
    // Nobody is left to tell of a failure here.
    let _ = writeln!(std::io::stderr(), "{}", readable(text));
}

/// Why standard output has not taken all: a full disk, not a reader that has gone away (`| head`), who has all that was
/// wanted.
pub fn unsaid() -> Option<std::io::Error> {
    let unsaid = UNSAID
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
        .take()?;
    (unsaid.kind() != std::io::ErrorKind::BrokenPipe).then_some(unsaid)
}

/// A word as a shell takes it.
fn quoted(word: &str) -> String {
    jigsawa_work::foreign::shell_word(word).to_string()
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

/// A command's own part of its outcome.
pub trait Own: Serialize + Sized {
    /// The whole outcome as text.
    fn text(outcome: &Outcome<Self>) -> String;

    /// How the command ended.
    fn ending(&self) -> Ending {
        Ending::Whole
    }
}

/// Prints what a command did as it is wanted: as JSON, as text, or not at all. Returns how it ended.
pub fn tell<T: Own>(outcome: &Outcome<T>, common: &Common) -> Ending {
    if common.json {
        say(&serde_json::to_string_pretty(outcome).unwrap_or_default());
    } else if !common.quiet {
        say(T::text(outcome).trim_end());
    }
    outcome.own.ending()
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

/// Threads for each core that are taken at most, and how many at least where they are asked for: more only wait for each
/// other, and each has a stack and buffers of its own.
const THREADS_A_CORE: usize = 4;
const THREADS_AT_LEAST: usize = 16;

/// Sets the number of threads of all parallel work. Says when it is fewer than were asked for.
pub fn set_threads(threads: Option<u16>) -> Result<(), rayon::ThreadPoolBuildError> {
    let mut pool = rayon::ThreadPoolBuilder::new();
    if let Some(n) = threads.map(usize::from) {
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        let most = (THREADS_A_CORE * cores).max(THREADS_AT_LEAST);
        if n > most {
            tracing::warn!("--threads {n}: {most} are used, as more do not help on {cores} cores");
        }
        pool = pool.num_threads(n.min(most));
    }
    pool.build_global()
}
