//! The page of figures.

use std::error::Error;
use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use jigsawa_core::number::Convert;

use super::run::{Limits, Timed};

/// A command at 24 megapixels, on one, two and four threads.
pub struct Row {
    pub what: String,
    pub on: Vec<Timed>,
    /// The least time for the bytes that it moves.
    pub limit_s: f64,
}

/// All that was timed.
pub struct Page {
    machine: String,
    limits: String,
    pub commands: Vec<Row>,
    pub of_sizes: [&'static str; 3],
    pub sizes: Vec<(u32, Vec<Timed>)>,
    pub of_numbers: [&'static str; 2],
    pub numbers: Vec<(usize, Vec<Timed>)>,
}

impl Page {
    pub fn new(limits: &Limits) -> Self {
        let known = fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
        let model = known.lines().find_map(|l| l.strip_prefix("model name"));
        let model = model.map_or("an unknown processor", |m| {
            m.trim_start_matches([' ', '\t', ':'])
        });
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        Self {
            machine: format!("{model}, {cores} cores"),
            limits: format!(
                "reads {:.1} GB a second from the page cache and writes {:.1} into it on one core",
                limits.read_per_s / 1e9,
                limits.written_per_s / 1e9
            ),
            commands: Vec::new(),
            of_sizes: [""; 3],
            sizes: Vec::new(),
            of_numbers: [""; 2],
            numbers: Vec::new(),
        }
    }

    pub fn write(&self, folder: &Path) -> Result<(), Box<dyn Error>> {
        let mut out = format!(
            "# How long things take\n\n\
             Made by `cargo run --release -p jigsawa --example speed -- target/release/jigsawa docs` on {}, which {}.\n\
             Files lie in the page cache; the fastest of three runs counts, nothing is kept from one to the next. On a machine that others use, too, the same\n\
             command takes up to half as long again at another time: compare what stands in one table.\n\n\
             ## 24 megapixels\n\n\
             Floats of 32 bits, but for the calibration master. *Limit*: reading the inputs once and writing the results once, without any arithmetic.\n\n\
             | work | 1 thread | 2 threads | 4 threads | limit | memory |\n|---|---|---|---|---|---|\n",
            self.machine, self.limits
        );
        for row in &self.commands {
            let seconds: Vec<String> = row
                .on
                .iter()
                .map(|t| format!("{:.2} s", t.seconds))
                .collect();
            let most = row.on.iter().map(|t| t.megabytes).max().unwrap_or(0);
            writeln!(
                out,
                "| {} | {} | {:.2} s | {most} MB |",
                row.what,
                seconds.join(" | "),
                row.limit_s
            )?;
        }
        writeln!(
            out,
            "\n![Time over megapixels, memory over frames](speed.svg)\n\n## Larger and smaller frames\n\nOn two threads; seconds, and in brackets those for a megapixel of one frame.\n"
        )?;
        table(
            &mut out,
            "megapixels",
            &self.of_sizes,
            &self.sizes,
            |n, t| {
                format!(
                    "{:.2} ({:.3}), {} MB",
                    t.seconds,
                    t.seconds / f64::from(*n),
                    t.megabytes
                )
            },
        )?;
        writeln!(
            out,
            "\n## More frames\n\nOf 6 megapixels, on two threads; seconds, and in brackets those for a frame. A survey's report shows few frames at full size, which takes memory.\n"
        )?;
        table(
            &mut out,
            "frames",
            &self.of_numbers,
            &self.numbers,
            |n, t| {
                format!(
                    "{:.2} ({:.3}), {} MB",
                    t.seconds,
                    t.seconds / n.real(),
                    t.megabytes
                )
            },
        )?;
        fs::write(folder.join("speed.md"), out)?;
        Ok(())
    }
}

fn table<N: std::fmt::Display>(
    out: &mut String,
    over: &str,
    names: &[&str],
    rows: &[(N, Vec<Timed>)],
    cell: impl Fn(&N, &Timed) -> String,
) -> std::fmt::Result {
    writeln!(
        out,
        "| {over} | {} |\n|---|{}",
        names.join(" | "),
        "---|".repeat(names.len())
    )?;
    for (n, on) in rows {
        let cells: Vec<String> = on.iter().map(|t| cell(n, t)).collect();
        writeln!(out, "| {n} | {} |", cells.join(" | "))?;
    }
    Ok(())
}
