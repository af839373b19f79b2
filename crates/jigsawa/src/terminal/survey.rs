//! The survey as text: what was found, a table that fits the terminal, and the course over the night.

use super::Own;
use crate::account::{Ending, SurveyAccount, Surveyed};
use jigsawa_core::number::Convert;
use std::fmt::Write as _;

use comfy_table::{CellAlignment, ContentArrangement, Table, presets};
use jigsawa_core::frame::Kind;
use jigsawa_core::survey::group::filter_label;
use jigsawa_core::survey::quantity::{Known, Measure, Quantity, named};
use jigsawa_core::verdict::Verdict;

use jigsawa_work::survey::Night;
use jigsawa_work::words::duration;

impl Own for Surveyed {
    fn text(account: &SurveyAccount) -> String {
        account.own.text.clone()
    }

    fn ending(&self) -> Ending {
        Ending::of(self.frames.iter().any(|f| f.reason.is_some()))
    }
}

/// Columns by default, with how soon each goes when the terminal is narrow: the highest first.
const COLUMNS: [(&str, u8); 13] = [
    ("file", 0),
    ("filter", 1),
    ("exposure", 8),
    ("altitude", 9),
    ("used", 4),
    ("fwhm", 1),
    ("elongation", 2),
    ("sky", 5),
    ("noise", 7),
    ("transparency", 3),
    ("snr", 6),
    ("trails", 10),
    ("score", 1),
];

/// Width that is assumed where nobody looks: a file or a pipe.
const NO_TERMINAL: u16 = 160;

/// From this width on the course over the night is drawn.
const WIDE: u16 = 100;

/// How the table is to look.
pub struct TableSettings {
    /// The columns that the user wants; none for the usual ones.
    pub columns: Vec<&'static Quantity>,
    /// The column to sort by, and whether from high to low.
    pub sort: Option<(&'static Quantity, bool)>,
    /// Width of the terminal.
    pub width: u16,
}

/// The width of the terminal.
pub fn width() -> u16 {
    Table::new().width().unwrap_or(NO_TERMINAL)
}

/// The survey as text.
pub fn survey_text(night: &Night, settings: &TableSettings) -> String {
    let mut out = String::new();
    for g in &night.groups {
        let used = g
            .frames
            .iter()
            .filter(|i| night.judged[**i].verdict == Verdict::Used)
            .count();
        let mut parts = vec![format!(
            "{:>3} {}{}",
            g.count,
            if g.key.master { "master " } else { "" },
            plural(g.key.kind, g.count)
        )];
        parts.extend(g.key.filter.clone());
        parts.extend(g.key.exposure_s.map(|e| format!("{e} s")));
        parts.extend(g.key.camera.clone());
        parts.extend(g.key.night.as_ref().map(|n| format!("night of {n}")));
        let total = g
            .total_s
            .map_or(String::new(), |t| format!(", {} in all", duration(t)));
        let left = g.count - used;
        let left = if left > 0 {
            format!(", {left} left out")
        } else {
            String::new()
        };
        let _ = writeln!(out, "{}{total}{left}", parts.join("  "));
    }
    let _ = writeln!(out, "\n{}\n", table(night, settings));
    if settings.width >= WIDE {
        out.push_str(&courses(night));
    }
    for event in night.events() {
        let _ = writeln!(out, "note       {event}");
    }
    for i in 0..night.files.len() {
        // Lights say it in the table.
        if night.facts[i].kind != Kind::Light {
            let name = &night.files[i].name;
            let judged = &night.judged[i];
            for text in judged
                .verdict
                .reason()
                .into_iter()
                .chain(judged.doubts.iter().map(String::as_str))
            {
                let _ = writeln!(out, "doubtful   {name}: {text}");
            }
        }
    }
    for (file, why) in &night.unreadable {
        let _ = writeln!(
            out,
            "left out   {}: it cannot be read: {why}",
            file.path.display()
        );
    }
    if let Some((i, why)) = &night.reference {
        let _ = writeln!(out, "reference  {} ({why})", night.files[*i].name);
    }
    out
}

fn plural(kind: Kind, count: usize) -> String {
    let word = kind.name();
    match (kind, count) {
        (_, 1) => word.to_owned(),
        (Kind::Bias, _) => "biases".to_owned(),
        _ => format!("{word}s"),
    }
}

/// The lights, in the wanted order.
fn order(night: &Night, settings: &TableSettings) -> Vec<usize> {
    let mut lights: Vec<usize> = night
        .in_time()
        .into_iter()
        .filter(|i| night.facts[*i].kind == Kind::Light)
        .collect();
    if let Some((q, down)) = settings.sort {
        let key = |i: usize| {
            let known = night.known_of(i);
            let number = q.number_of(&known);
            // What is not known comes last, whichever way.
            let number = match (number, down) {
                (Some(v), true) => -v,
                (Some(v), false) => v,
                (None, _) => f64::INFINITY,
            };
            (number, q.shown(&known))
        };
        lights.sort_by(|a, b| {
            let ((x, s), (y, t)) = (key(*a), key(*b));
            let words = if down { t.cmp(&s) } else { s.cmp(&t) };
            let words = if q.measure == Measure::Words {
                words
            } else {
                std::cmp::Ordering::Equal
            };
            x.total_cmp(&y).then(words)
        });
    }
    lights
}

fn table(night: &Night, settings: &TableSettings) -> Table {
    let order = order(night, settings);
    let known: Vec<Known<'_>> = order.iter().map(|i| night.known_of(*i)).collect();
    let chosen = chosen(&known, settings);
    let mut t = Table::new();
    t.load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_width(settings.width);
    let head = chosen
        .iter()
        .map(|q| heading(q))
        .chain(["verdict".to_owned()]);
    t.set_header(head);
    for (k, q) in chosen.iter().enumerate() {
        if q.measure != Measure::Words
            && let Some(c) = t.column_mut(k)
        {
            c.set_cell_alignment(CellAlignment::Right);
        }
    }
    for (i, known) in order.iter().zip(&known) {
        let judged = &night.judged[*i];
        let verdict = match judged.verdict.reason() {
            Some(why) => format!("left out: {why}"),
            None => "used".to_owned(),
        };
        let doubts = judged.doubts.iter().map(|d| format!("; doubtful: {d}"));
        let cells = chosen.iter().map(|q| cell(q, known));
        t.add_row(cells.chain([verdict + &doubts.collect::<String>()]));
    }
    t
}

fn heading(q: &Quantity) -> String {
    format!("{}{}", q.name, q.unit())
}

fn cell(q: &Quantity, known: &Known<'_>) -> String {
    let text = q.shown(known);
    if text.is_empty() {
        "-".to_owned()
    } else {
        text
    }
}

/// The columns that fit, with room for a verdict beside them.
fn chosen(known: &[Known<'_>], settings: &TableSettings) -> Vec<&'static Quantity> {
    const ROOM: usize = 26;
    if !settings.columns.is_empty() {
        return settings.columns.clone();
    }
    let mut columns: Vec<(&'static Quantity, u8)> = COLUMNS
        .iter()
        .filter_map(|(name, rank)| Some((named(name)?, *rank)))
        // What no frame has says nothing.
        .filter(|(q, _)| known.iter().any(|k| (q.of)(k).is_some()))
        .collect();
    let wide = |columns: &[(&Quantity, u8)]| -> usize {
        columns
            .iter()
            .map(|(q, _)| {
                let cells = known.iter().map(|k| cell(q, k).chars().count()).max();
                2 + cells.unwrap_or(0).max(heading(q).chars().count())
            })
            .sum()
    };
    while wide(&columns) + ROOM > usize::from(settings.width) && columns.len() > 3 {
        let Some(least) = (0..columns.len()).max_by_key(|k| columns[*k].1) else {
            break;
        };
        columns.remove(least);
    }
    columns.into_iter().map(|(q, _)| q).collect()
}

/// Sky, width and signal over the night, one line each for every filter.
fn courses(night: &Night) -> String {
    let mut filters: Vec<Option<String>> = Vec::new();
    let lights: Vec<usize> = night
        .in_time()
        .into_iter()
        .filter(|i| night.facts[*i].kind == Kind::Light)
        .collect();
    for i in &lights {
        let label = filter_label(&night.facts[*i]);
        if !filters.contains(&label) {
            filters.push(label);
        }
    }
    let mut out = String::new();
    for filter in filters {
        let members: Vec<usize> = lights
            .iter()
            .copied()
            .filter(|i| filter_label(&night.facts[*i]) == filter)
            .collect();
        for (name, title) in [("sky", "sky"), ("fwhm", "FWHM"), ("transparency", "signal")] {
            let Some(q) = named(name) else { continue };
            let values: Vec<Option<f64>> = members
                .iter()
                .map(|i| q.number_of(&night.known_of(*i)))
                .collect();
            let known = values.iter().flatten();
            let (low, high) = known.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| {
                (a.min(*v), b.max(*v))
            });
            if members.len() < 3 || high < low {
                continue;
            }
            let filter = filter.as_deref().unwrap_or("-");
            let _ = writeln!(
                out,
                "{filter:<6} {title:<7} {}  {} to {}{}",
                bars(&values, low, high),
                q.shown_number(low),
                q.shown_number(high),
                q.unit()
            );
        }
    }
    if !out.is_empty() {
        out.push('\n');
    }
    out
}

/// A bar for each value, from the lowest to the highest; a dot for what is not known. Of more values
/// than fit, neighbours are joined.
fn bars(values: &[Option<f64>], low: f64, high: f64) -> String {
    const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    const MOST: usize = 60;
    values
        .chunks(values.len().div_ceil(MOST).max(1))
        .map(|chunk| {
            let known: Vec<f64> = chunk.iter().flatten().copied().collect();
            if known.is_empty() {
                return '·';
            }
            let mean = known.iter().sum::<f64>() / known.len().real();
            let part = if high > low {
                (mean - low) / (high - low)
            } else {
                0.5
            };
            BARS[(part * 8.0).index().min(7)]
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_run_from_low_to_high_and_show_gaps() {
        let values = [Some(1.0), None, Some(3.0), Some(2.0)];
        assert_eq!(bars(&values, 1.0, 3.0), "▁·█▅");
        assert_eq!(bars(&[Some(2.0)], 2.0, 2.0), "▅");
        assert_eq!(bars(&vec![Some(1.0); 600], 0.0, 2.0).chars().count(), 60);
    }
}
