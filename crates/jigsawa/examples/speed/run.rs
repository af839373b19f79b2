//! A command timed: seconds, the most memory, and the bytes that it has to move.

use std::error::Error;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use jigsawa_core::number::Convert;

/// What a command took.
#[derive(Clone, Copy, Default)]
pub struct Timed {
    /// From start to end, the fastest of three.
    pub seconds: f64,
    /// The most memory, in megabytes.
    pub megabytes: usize,
    /// Bytes of what it reads and of what it has written.
    pub moved: (usize, usize),
}

const RUNS: usize = 3;

/// Runs a line in the folder; `{}` in it is a new folder for the results.
pub fn timed(
    program: &Path,
    folder: &Path,
    line: &str,
    threads: usize,
) -> Result<Timed, Box<dyn Error>> {
    let results = folder.join("results");
    prepare(program, folder, line)?;
    let mut best = Timed {
        seconds: f64::INFINITY,
        ..Timed::default()
    };
    for _ in 0..RUNS {
        if results.exists() {
            fs::remove_dir_all(&results)?;
        }
        let once = once(program, folder, &line.replace("{}", "results"), threads)?;
        if once.seconds < best.seconds {
            best = Timed {
                megabytes: best.megabytes.max(once.megabytes),
                moved: (bytes_of(folder, line), bytes_below(&results)),
                ..once
            };
        }
    }
    fs::remove_dir_all(&results)?;
    Ok(best)
}

/// A linear picture and its layout, for lines that go on from them.
fn prepare(program: &Path, folder: &Path, line: &str) -> Result<(), Box<dyn Error>> {
    if line.contains("first/") && !folder.join("first").exists() {
        let line = "compose masters --palette SHO --linear-only --out first --name reef";
        once(program, folder, line, 2)?;
    }
    Ok(())
}

fn once(
    program: &Path,
    folder: &Path,
    line: &str,
    threads: usize,
) -> Result<Timed, Box<dyn Error>> {
    let began = Instant::now();
    let mut child = Command::new(program)
        .args(line.split_whitespace())
        .args(["--threads", &threads.to_string(), "--no-cache", "--quiet"])
        .current_dir(folder)
        .stdout(Stdio::null())
        .spawn()?;
    let status = format!("/proc/{}/status", child.id());
    let peak = AtomicUsize::new(0);
    let ended = std::thread::scope(|scope| {
        let (stop, stopped) = std::sync::mpsc::channel::<()>();
        let (peak, status) = (&peak, &status);
        scope.spawn(move || {
            // The system keeps the highest value itself, and forgets it with the process.
            while stopped.recv_timeout(Duration::from_millis(5)).is_err() {
                let known = fs::read_to_string(status).ok();
                let line = known
                    .as_deref()
                    .and_then(|s| s.lines().find(|l| l.starts_with("VmHWM")));
                let kilobytes = line.and_then(|l| l.split_whitespace().nth(1)?.parse().ok());
                peak.fetch_max(kilobytes.unwrap_or(0), Ordering::Relaxed);
            }
        });
        let ended = child.wait();
        let _ = stop.send(());
        ended
    })?;
    let seconds = began.elapsed().as_secs_f64();
    if !ended.success() {
        return Err(format!("'{line}' ends with {ended}").into());
    }
    Ok(Timed {
        seconds,
        megabytes: peak.into_inner() / 1024,
        ..Timed::default()
    })
}

/// Bytes of the inputs that a line names.
fn bytes_of(folder: &Path, line: &str) -> usize {
    let named = line.split_whitespace().skip(1).map(|w| folder.join(w));
    named.filter(|p| p.exists()).map(|p| bytes_below(&p)).sum()
}

fn bytes_below(path: &Path) -> usize {
    let Ok(about) = fs::metadata(path) else {
        return 0;
    };
    if about.is_file() {
        return about.len().index();
    }
    let entries = fs::read_dir(path).into_iter().flatten().flatten();
    entries.map(|e| bytes_below(&e.path())).sum()
}

/// How fast this machine moves bytes between the page cache and memory, on one core.
pub struct Limits {
    pub read_per_s: f64,
    pub written_per_s: f64,
}

/// Bytes that are moved to learn it.
const TRIED: usize = 256 << 20;

impl Limits {
    pub fn measure(folder: &Path) -> Result<Self, Box<dyn Error>> {
        let path = folder.join("limit");
        let mut bytes = vec![1u8; TRIED];
        let (mut write, mut read) = (f64::INFINITY, f64::INFINITY);
        for _ in 0..RUNS {
            let _ = fs::remove_file(&path);
            let began = Instant::now();
            File::create(&path)?.write_all(&bytes)?;
            write = write.min(began.elapsed().as_secs_f64());
            let began = Instant::now();
            File::open(&path)?.read_exact(&mut bytes)?;
            read = read.min(began.elapsed().as_secs_f64());
        }
        fs::remove_file(path)?;
        let per_s = |seconds: f64| TRIED.real() / seconds;
        Ok(Self {
            read_per_s: per_s(read),
            written_per_s: per_s(write),
        })
    }

    /// The least time for what a command moves.
    pub fn seconds(&self, timed: &Timed) -> f64 {
        timed.moved.0.real() / self.read_per_s + timed.moved.1.real() / self.written_per_s
    }
}
