//! What `-h` shows of a command: the options that most runs need, on one screen. `--help` shows all.

use clap::{Arg, Command, CommandFactory};

use super::Cli;

/// The options that `-h` shows, by command; what is not listed shows all of its own.
const BRIEF: [(&str, &[&str]); 12] = [
    ("run", &["palettes", "target", "watch", "out", "name"]),
    ("check", &["palettes", "target", "defaults", "schema"]),
    (
        "calibrate",
        &[
            "library",
            "use",
            "pattern",
            "write-frames",
            "out",
            "name",
            "overwrite",
        ],
    ),
    (
        "survey",
        &[
            "keep",
            "keep-best",
            "move-rest",
            "copy",
            "csv",
            "out",
            "name",
            "overwrite",
        ],
    ),
    (
        "register",
        &[
            "reference",
            "into",
            "hint",
            "pair",
            "write-frames",
            "out",
            "name",
            "overwrite",
        ],
    ),
    (
        "normalize",
        &[
            "match",
            "surface",
            "stiffness",
            "flatten",
            "out",
            "name",
            "overwrite",
        ],
    ),
    (
        "stack",
        &[
            "into",
            "keep-best",
            "reject",
            "weigh",
            "compare",
            "drop",
            "out",
            "name",
            "overwrite",
        ],
    ),
    (
        "compose",
        &[
            "palette",
            "list-palettes",
            "try",
            "red",
            "green",
            "blue",
            "luminance",
            "lines",
            "stretch",
            "out",
            "name",
            "overwrite",
        ],
    ),
    (
        "hdr",
        &[
            "exposure",
            "saturation",
            "palette",
            "exr",
            "linear-only",
            "out",
            "name",
            "overwrite",
        ],
    ),
    (
        "mosaic",
        &[
            "plan",
            "panel",
            "into",
            "projection",
            "palette",
            "out",
            "name",
            "overwrite",
        ],
    ),
    (
        "finish",
        &[
            "out",
            "crop",
            "gradient",
            "white",
            "denoise",
            "stretch",
            "saturation",
            "stars",
            "size",
            "overwrite",
        ],
    ),
    (
        "show",
        &[
            "region",
            "zoom",
            "together",
            "flip",
            "out",
            "name",
            "overwrite",
        ],
    ),
];

/// The command line with short helps that fit a screen.
pub fn command() -> Command {
    let all = Cli::command().mut_args(|a| {
        let is_common = a.get_help_heading() == Some(super::COMMON);
        a.hide_short_help(is_common)
    });
    BRIEF.iter().fold(all, |cli, (name, shown)| {
        cli.mut_subcommand(name, |command| brief(command, name, shown))
    })
}

fn brief(command: Command, name: &str, shown: &[&str]) -> Command {
    let is_shown = |a: &Arg| a.is_positional() || a.get_long().is_some_and(|l| shown.contains(&l));
    let examples = command.get_after_help().map(ToString::to_string);
    let more = format!(
        "These are the usual ones: 'jigsawa {name} --help' has all, and what every command has"
    );
    let command = match (&examples, command.get_after_long_help()) {
        (Some(examples), None) => command.clone().after_long_help(examples.clone()),
        _ => command,
    };
    command
        .mut_args(|a| {
            let hidden = !is_shown(&a);
            a.hide_short_help(hidden)
        })
        .after_help(more)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Rows of a small terminal.
    const SCREEN: usize = 40;

    #[test]
    fn a_short_help_fits_a_screen_and_the_long_one_has_all() {
        let mut cli = command();
        cli.build();
        for (name, shown) in BRIEF {
            let command = cli.find_subcommand_mut(name).unwrap();
            let short = command.render_help().to_string();
            let long = command.render_long_help().to_string();
            for option in shown {
                let typed = format!("--{option}");
                assert!(short.contains(&typed), "{name} {typed}");
            }
            let lines = short.lines().count();
            assert!(lines <= SCREEN, "{name}: {lines} lines\n{short}");
            for a in command.get_arguments().filter(|a| !a.is_hide_set()) {
                let typed = a.get_long().map(|l| format!("--{l}"));
                assert!(typed.is_none_or(|t| long.contains(&t)), "{name}: {a}");
            }
        }
        assert!(cli.render_help().to_string().lines().count() <= SCREEN);
    }
}
