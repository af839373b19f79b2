//! One quantity over the night.

use jigsawa_core::number::Convert;
use jigsawa_core::survey::quantity::{Measure, named};
use jigsawa_core::verdict::Verdict;
use maud::{Markup, html};

use crate::report::chart::{Axis, Chart, Ink, range};
use jigsawa_work::survey::Night;

/// Size of a plot in its own units.
const SIZE: (u32, u32) = (430, 200);

/// Colours of series begin again after so many.
const SERIES: usize = 6;

/// The time axis of all plots of a night.
pub struct Times {
    /// Place of each file that has one.
    at: Vec<Option<f64>>,
    /// Whole nights lie side by side by the number of the frame, one night by the clock.
    by_clock: bool,
}

impl Times {
    /// The axis of a night: by the clock when all lights have a time and are of one night.
    pub fn of(night: &Night, lights: &[usize]) -> Self {
        let start = |i: &usize| night.facts[*i].start_s;
        let first = lights
            .iter()
            .filter_map(start)
            .fold(f64::INFINITY, f64::min);
        let last = lights
            .iter()
            .filter_map(start)
            .fold(f64::NEG_INFINITY, f64::max);
        let by_clock = lights.iter().all(|i| start(i).is_some()) && last - first < 16.0 * 3600.0;
        let midnight = (first / 86_400.0).floor() * 86_400.0;
        let mut at = vec![None; night.files.len()];
        let in_time = night.in_time();
        for (number, i) in in_time.iter().filter(|i| lights.contains(i)).enumerate() {
            at[*i] = if by_clock {
                start(i).map(|s| (s - midnight) / 3600.0)
            } else {
                Some(number.real() + 1.0)
            };
        }
        Self { at, by_clock }
    }

    /// What the axis counts.
    pub const fn words(&self) -> &'static str {
        if self.by_clock {
            "time (UTC)"
        } else {
            "frames in order of time"
        }
    }
}

/// A plot of a quantity under its heading; nothing where no light has it. `series` gives the number of each light's series.
pub fn plot(
    night: &Night,
    (quantity, heading): (&str, &str),
    times: &Times,
    lights: &[usize],
    series: &dyn Fn(usize) -> usize,
) -> Markup {
    let Some(q) = named(quantity) else {
        return html! {};
    };
    let percent = if q.measure == Measure::Part {
        100.0
    } else {
        1.0
    };
    let in_time = night.in_time().into_iter();
    let dots: Vec<(usize, (f64, f64))> = in_time
        .filter(|i| lights.contains(i))
        .filter_map(|i| {
            let value = q.number_of(&night.known_of(i))? * percent;
            Some((i, (times.at[i]?, value)))
        })
        .collect();
    let limits = limits(night, quantity, percent, series);
    let about = format!("{quantity} over the night");
    let clock = |x: &f64| {
        let minutes = (x * 60.0).round().whole();
        format!("{:02}:{:02}", (minutes / 60) % 24, minutes % 60)
    };
    let number = |x: &f64| format!("{x:.0}");
    let x = Axis {
        words: "",
        range: range(dots.iter().map(|d| d.1.0), 0.02, 0.1),
        marks: 7,
        label: if times.by_clock { &clock } else { &number },
    };
    let digits = if percent > 1.0 { 0 } else { q.digits };
    let sign = if percent > 1.0 { "%" } else { "" };
    let y = Axis {
        words: "",
        range: heights(&dots, &limits),
        marks: 5,
        label: &|y| format!("{y:.digits$}{sign}"),
    };
    let mut chart = Chart::new(&about, SIZE, x, y);
    for (series, y) in limits {
        chart.level(y, Ink::class(&format!("limit s{}", series % SERIES)));
    }
    for (i, at) in dots {
        let file = &night.files[i].name;
        let value = q.shown_number(at.1 / percent);
        let words = format!("{file}: {quantity} {value}{}", q.unit());
        let used = night.judged[i].verdict == Verdict::Used;
        let class = if used { "used" } else { "out" };
        let ink = Ink::class(&format!("dot s{} {class}", series(i) % SERIES));
        chart.dots([at], 4, ink.of_frame(&words, i));
    }
    chart.figure(heading)
}

/// The limits of a quantity: series and value.
fn limits(
    night: &Night,
    quantity: &str,
    percent: f64,
    series: &dyn Fn(usize) -> usize,
) -> Vec<(usize, f64)> {
    let sets = night.sets.iter();
    sets.filter_map(|set| Some((series(*set.frames.first()?), set)))
        .flat_map(|(series, set)| set.limits.iter().map(move |l| (series, l)))
        .filter_map(|(series, (name, v))| match *name {
            "clouds" if quantity == "transparency" => Some((series, (1.0 - v) * percent)),
            name if name == quantity => Some((series, v * percent)),
            _ => None,
        })
        .collect()
}

/// From the lowest to the highest value. Limits far from all values would squeeze them; they are shown where they are near.
fn heights(dots: &[(usize, (f64, f64))], limits: &[(usize, f64)]) -> (f64, f64) {
    let (mut low, mut high) = range(dots.iter().map(|d| d.1.1), 0.0, 0.0);
    let first = dots.first().map_or(0.0, |d| d.1.1);
    let span = (high - low).max(0.02 * first.abs()).max(1e-6);
    for (_, y) in limits {
        if *y > low - 0.8 * span && *y < high + 0.8 * span {
            (low, high) = (low.min(*y), high.max(*y));
        }
    }
    range([low, high], 0.08, span)
}
