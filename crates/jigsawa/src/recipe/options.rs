//! Options of a recipe's sections: what a command line takes, by its own table.

use std::ffi::OsString;

use clap::{Arg, CommandFactory};

use super::Options;
use crate::cli::Cli;

/// Options that the recipe settles itself, or that make no sense in one.
const NOT_HERE: [&str; 28] = [
    "out",
    "name",
    "overwrite",
    "json",
    "verbose",
    "quiet",
    "threads",
    "memory",
    "help",
    "version",
    "into",
    "plan",
    "try",
    "pick",
    "list-palettes",
    "palette",
    "library",
    "linear-only",
    "preview",
    "no-cache",
    "copy",
    "move-rest",
    "dry-run",
    "layout",
    "sort",
    "columns",
    "write-frames",
    "write-surfaces",
];

/// Options that may be given for one filter alone.
pub const BY_FILTER: [&str; 4] = ["reject", "reject-low", "reject-high", "keep-best"];

/// The options that a command's section may hold.
pub fn of_command(command: &str) -> Vec<Arg> {
    let cli = Cli::command();
    let Some(own) = cli.find_subcommand(command) else {
        return Vec::new();
    };
    own.get_arguments()
        .filter(|a| a.get_long().is_some_and(|l| !NOT_HERE.contains(&l)))
        .cloned()
        .collect()
}

/// Their long names.
pub fn names(command: &str) -> Vec<String> {
    let all = of_command(command);
    let long = all.iter().filter_map(Arg::get_long);
    long.map(str::to_owned).collect()
}

/// Does an option stand alone, without a value?
pub fn is_switch(arg: &Arg) -> bool {
    !arg.get_action().takes_values()
}

/// A key as an option is spelled: both strokes are read.
pub fn spelled(key: &str) -> String {
    key.replace('_', "-")
}

/// A section as words of a command line.
pub fn words(options: &Options) -> Vec<OsString> {
    let mut words = Vec::new();
    for (key, value) in options {
        let key = spelled(key);
        match value {
            toml::Value::Boolean(true) => words.push(format!("--{key}").into()),
            toml::Value::Boolean(false) => {}
            toml::Value::Array(all) => {
                let each = all.iter().map(|v| format!("--{key}={}", plain(v)).into());
                words.extend(each);
            }
            one => words.push(format!("--{key}={}", plain(one)).into()),
        }
    }
    words
}

/// A section of one filter as words of a command line.
pub fn words_of(filter: &str, options: &Options) -> Vec<OsString> {
    let word = |(key, value): (&String, &toml::Value)| {
        format!("--{}={filter}={}", spelled(key), plain(value)).into()
    };
    options.iter().map(word).collect()
}

/// A value as it is typed.
fn plain(value: &toml::Value) -> String {
    match value {
        toml::Value::String(s) => s.clone(),
        other => other.to_string(),
    }
}
