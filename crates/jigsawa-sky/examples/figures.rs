//! Runs the core's tests against the made-up sky and puts the figures that they print into docs/accuracy.md:
//! `cargo run -p jigsawa-sky --example figures docs/accuracy.md`. A test prints a figure as `figure | number | what | is`.

mod page;

use std::process::{Command, Stdio};

fn main() {
    let run = Command::new(env!("CARGO"))
        .args(["test", "-p", "jigsawa-core", "--test", "reef", "--"])
        .args([
            "--nocapture",
            "--include-ignored",
            "masters::",
            "told",
            "matching::short",
            "hdr::",
            "mosaic_levels::",
            "gradients::",
            "starless::",
            "looks::",
            "calibrate::",
            "stack::",
            "flaws::",
            "drops::",
            "uneven::",
        ])
        .stderr(Stdio::inherit())
        .output()
        .expect("cargo can be run");
    let said = String::from_utf8_lossy(&run.stdout);
    let failed: Vec<&str> = said.lines().filter(|l| l.ends_with("FAILED")).collect();
    assert!(run.status.success(), "tests fail: {failed:#?}");
    let mut rows: Vec<&str> = said
        .lines()
        .filter_map(|l| l.split_once("figure | ").map(|l| l.1))
        .collect();
    rows.sort_unstable();
    let rows = rows.iter().filter_map(|r| r.split_once(" | "));
    let table: Vec<String> = rows.map(|(_, row)| format!("| {row} |")).collect();
    let head = "| what comes in | measured |\n|---|---|";
    page::put(
        std::env::args().nth(1),
        "masters",
        &format!("{head}\n{}", table.join("\n")),
    );
}
