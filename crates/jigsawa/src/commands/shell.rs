//! `jigsawa completions` and `jigsawa manual`: the command line as shells and readers of manuals want it.

use std::path::PathBuf;

use clap::{Command, CommandFactory};
use jigsawa_work::clock::Output;
use jigsawa_work::outputs::{are_free, filled, finish_first, make_folder};
use jigsawa_work::trouble::Trouble;

use crate::account::Ending;
use crate::cli::{Cli, CompletionsArgs, ManualArgs};
use crate::terminal::say;

/// Prints what a shell completes commands, options and their values by.
pub fn completions(args: &CompletionsArgs) -> Ending {
    let mut text = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), "jigsawa", &mut text);
    say(String::from_utf8_lossy(&text).trim_end());
    Ending::Whole
}

/// Writes a manual page of the program and one of each command.
pub fn manual(args: &ManualArgs) -> Result<Ending, Trouble> {
    let mut cli = Cli::command();
    // What holds for all commands is put into each, and its name with the program's before it.
    cli.build();
    let commands = cli.get_subcommands().filter(|c| c.get_name() != "help");
    let pages: Vec<(PathBuf, Command)> = std::iter::once(&cli)
        .chain(commands)
        .map(|c| {
            let name = c.get_display_name().unwrap_or(c.get_name());
            (args.folder.join(format!("{name}.1")), c.clone())
        })
        .collect();
    let paths: Vec<&PathBuf> = pages.iter().map(|p| &p.0).collect();
    are_free(&paths, args.overwrite)?;
    make_folder(&args.folder)?;
    let mut files = Vec::new();
    for (path, command) in pages {
        let mut text = Vec::new();
        let wrong = |e: std::io::Error| Trouble::Write {
            file: path.clone(),
            error: jigsawa_formats::error::FileError::io("cannot write it")(e),
        };
        clap_mangen::Man::new(command)
            .render(&mut text)
            .map_err(wrong)?;
        files.push((filled(&path, &text, args.overwrite)?, "manual page"));
    }
    let mut written: Vec<Output> = Vec::new();
    finish_first(files, &mut written)?;
    for output in written {
        say(&format!("wrote      {}", output.file));
    }
    Ok(Ending::Whole)
}
