//! The program: from the command line to an exit code.

#![forbid(unsafe_code)]

mod account;
mod cli;
mod commands;
mod recipe;
mod report;
mod settings;
mod steps;
mod tell;
mod terminal;

use std::process::ExitCode;

use clap::FromArgMatches;

use account::Ending;
use cli::{Cli, Command};
use jigsawa_work::trouble::Trouble;

fn main() -> ExitCode {
    let typed = cli::command().try_get_matches();
    let cli = match typed.and_then(|m| Cli::from_arg_matches(&m)) {
        Ok(cli) => cli,
        // A command line that cannot be read may still ask for JSON.
        Err(e) => return tell::usage(&e, std::env::args_os().any(|a| a == "--json")),
    };
    terminal::start_log(&cli.common);
    if let Err(e) = ctrlc::set_handler(|| {
        jigsawa_formats::whole::remove_unfinished();
        std::process::exit(130);
    }) {
        tracing::warn!("an interruption will leave temporary files behind: {e}");
    }
    let_writes_fail();
    if let Err(e) = terminal::set_threads(cli.common.threads) {
        tracing::warn!("the number of threads cannot be set: {e}");
    }
    let code = match run(&cli) {
        Ok(ending) => ExitCode::from(ending.exit_code(cli.common.strict)),
        Err(e) => tell::failure(&e, &cli.common),
    };
    match terminal::unsaid() {
        None => code,
        Some(e) => {
            terminal::complain(&format!(
                "jigsawa: the account cannot be printed on standard output: {e}"
            ));
            ExitCode::FAILURE
        }
    }
}

/// A file that may not grow any further (`ulimit -f`) is an error of its write, and no reason to end at once.
#[cfg(unix)]
fn let_writes_fail() {
    let reached = std::sync::Arc::default();
    if let Err(e) = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, reached) {
        tracing::debug!("a limit of file sizes will end the program: {e}");
    }
}

#[cfg(not(unix))]
fn let_writes_fail() {}

fn run(cli: &Cli) -> Result<Ending, Trouble> {
    match &cli.command {
        Command::Calibrate(args) => commands::calibrate(args, &cli.common),
        Command::Survey(args) => commands::survey(args, &cli.common),
        Command::Register(args) => commands::register(args, &cli.common),
        Command::Normalize(args) => commands::normalize(args, &cli.common),
        Command::Show(args) => commands::show(args, &cli.common),
        Command::Stack(args) => commands::stack(args, &cli.common),
        Command::Compose(args) => commands::compose(args, &cli.common),
        Command::Hdr(args) => commands::hdr(args, &cli.common),
        Command::Mosaic(args) => commands::mosaic(args, &cli.common),
        Command::Finish(args) => commands::finish(args, &cli.common),
        Command::Stars(args) => commands::stars(args, &cli.common),
        Command::Run(args) => commands::run(args, &cli.common),
        Command::Check(args) => commands::check(args, &cli.common),
        Command::Demo(args) => commands::demo(args, &cli.common),
        Command::Completions(args) => Ok(commands::completions(args)),
        Command::Manual(args) => commands::manual(args),
    }
}
