//! `jigsawa run`, once or with `--watch`: results grow with the night.
//!
//! Files that are still being written are waited for: a file counts once its size and its time have stayed the same from one
//! look to the next.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::{Duration, Instant, SystemTime};

use jigsawa_work::find::find;
use jigsawa_work::trouble::Trouble;

use super::project::project;
use super::run::once;
use crate::account::Ending;
use crate::cli::{Common, RunArgs};
use crate::steps::State;
use crate::tell::sentence;
use crate::terminal::{complain, tell};

/// Files with their sizes and times.
type Seen = BTreeMap<PathBuf, (u64, Option<SystemTime>)>;

/// Runs the command, once or during a night, and prints its account.
pub fn run(args: &RunArgs, common: &Common) -> Result<Ending, Trouble> {
    if args.watch {
        watch(args, common)
    } else {
        Ok(tell(&once(args, common)?, common))
    }
}

/// Brings results up to date whenever frames have come, until nothing has come for long enough, or for ever.
fn watch(args: &RunArgs, common: &Common) -> Result<Ending, Trouble> {
    let every = Duration::from_secs_f64(args.every);
    let idle = args.idle.map(|m| Duration::from_secs_f64(60.0 * m));
    // What is wrong with what was typed ends it at once.
    project(&args.what)?;
    let (mut before, mut done) = (Seen::new(), None);
    let mut last_change = Instant::now();
    let mut ending = Ending::Whole;
    loop {
        let now = seen(args)?;
        let settled = now == before;
        if !settled {
            last_change = Instant::now();
        }
        if settled && !now.is_empty() && done.as_ref() != Some(&now) {
            match once(args, common) {
                Ok(account) => ending = tell(&account, common),
                // The next frame may mend it: a first one alone cannot be placed.
                Err(trouble) => complain(&format!("jigsawa: {}", sentence(&trouble))),
            }
            done = Some(now.clone());
            last_change = Instant::now();
        }
        before = now;
        if idle.is_some_and(|idle| last_change.elapsed() >= idle) {
            if done.is_none() {
                complain("jigsawa: no frame has come");
            }
            return Ok(ending);
        }
        std::thread::sleep(every);
    }
}

/// The frames that are there; none where the folder is still empty.
fn seen(args: &RunArgs) -> Result<Seen, Trouble> {
    let project = project(&args.what)?;
    let folder = project.folder();
    let paths: Vec<PathBuf> = project
        .recipe
        .frames
        .iter()
        .map(|f| project.recipe.path(f))
        .collect();
    let made = State::read(&folder).all_made(&folder);
    let found = match find(&paths, &[&folder]) {
        Ok(mut found) => {
            found.retain(|f| !made.contains(&f.path));
            found
        }
        Err(Trouble::NoFrames { .. }) => Vec::new(),
        Err(other) => return Err(other),
    };
    let about = found.into_iter().filter_map(|f| {
        let about = std::fs::metadata(&f.path).ok()?;
        Some((f.path, (about.len(), about.modified().ok())))
    });
    Ok(about.collect())
}
