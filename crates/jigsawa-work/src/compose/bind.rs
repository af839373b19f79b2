//! What the names in a palette's mixes stand for: frames of a filter, a file, or a part of a colour picture.

use jigsawa_core::colour::Palette;
use jigsawa_core::colour::mix::{BoundMix, Mix, Name, parse};
use jigsawa_core::filter::{Band, Filter};
use jigsawa_core::finish::Link;
use jigsawa_core::layout::Layout;
use jigsawa_core::verdict::Verdict;
use serde::Serialize;

use crate::frames::{Frame, stem};
use crate::trouble::Trouble;

/// Names of the channels, in the order of a palette's mixes.
pub const CHANNELS: [&str; 7] = [
    "red",
    "green",
    "blue",
    "luminance",
    "red of stars",
    "green of stars",
    "blue of stars",
];

/// What went into a channel.
#[derive(Debug, Clone, Serialize)]
pub struct Channel {
    /// Its name.
    #[serde(rename = "channel")]
    pub name: &'static str,
    /// The mix that it is made by.
    pub mix: String,
    /// The files that take part in it.
    pub frames: Vec<String>,
}

/// A palette whose names stand for frames.
pub struct Bound {
    /// The palette.
    pub palette: Palette,
    /// Red, green and blue over the sources.
    pub mixes: Vec<BoundMix>,
    /// Brightness over the sources.
    pub luminance: Option<BoundMix>,
    /// Red, green and blue of stars that are made apart.
    pub stars: Option<Vec<BoundMix>>,
    /// What names stand for: frames, as places in the list of all.
    pub sources: Vec<Vec<usize>>,
    /// What went into which channel.
    pub channels: Vec<Channel>,
    /// How its channels are best stretched: each on its own where all are made of lines alone.
    pub link: Link,
}

impl Bound {
    /// All frames that take part, in order.
    pub fn inputs(&self) -> Vec<usize> {
        let mut all: Vec<usize> = self.sources.iter().flatten().copied().collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// The place of the frames of a filter among the sources; they are added where they are not there yet.
    pub fn source(&mut self, frames: Vec<usize>) -> usize {
        place(&mut self.sources, frames)
    }
}

fn place(sources: &mut Vec<Vec<usize>>, frames: Vec<usize>) -> usize {
    if let Some(i) = sources.iter().position(|s| *s == frames) {
        return i;
    }
    sources.push(frames);
    sources.len() - 1
}

/// Finds the frames of every name in the palette.
pub fn bind(
    palette: &Palette,
    frames: &[Frame],
    layout: Option<&Layout>,
) -> Result<Bound, Trouble> {
    let mut sources: Vec<Vec<usize>> = Vec::new();
    let mut channels = Vec::new();
    let mut of_mix = |mix: &Mix, channel: usize| -> Result<BoundMix, Trouble> {
        let mut from: Vec<usize> = Vec::new();
        let bound = mix.bind(|n: &Name| -> Result<usize, Trouble> {
            let found = find(frames, &n.text, channel % 4);
            if found.is_empty() {
                return Err(unknown_name(CHANNELS[channel], mix, n, frames));
            }
            let used = usable(found, frames, layout)?;
            from.extend(&used);
            Ok(place(&mut sources, used))
        })?;
        from.sort_unstable();
        from.dedup();
        let mut files: Vec<String> = from.iter().map(|i| frames[*i].name()).collect();
        files.dedup();
        channels.push(Channel {
            name: CHANNELS[channel],
            mix: mix.text().to_owned(),
            frames: files,
        });
        Ok(bound)
    };
    let mixes = palette
        .channels
        .iter()
        .enumerate()
        .map(|(c, m)| of_mix(m, c))
        .collect::<Result<_, _>>()?;
    let luminance = palette
        .luminance
        .as_ref()
        .map(|m| of_mix(m, 3))
        .transpose()?;
    let stars = palette
        .stars
        .as_ref()
        .map(|s| {
            s.iter()
                .enumerate()
                .map(|(c, m)| of_mix(m, 4 + c))
                .collect::<Result<_, _>>()
        })
        .transpose()?;
    let band = |n: &str| {
        find(frames, n, 0)
            .first()
            .map_or(Band::Broad, |i| frames[*i].filter.band())
    };
    let link = if palette.is_narrow(band) {
        Link::Each
    } else {
        Link::Linked
    };
    Ok(Bound {
        palette: palette.clone(),
        mixes,
        luminance,
        stars,
        sources,
        channels,
        link,
    })
}

/// Those of some frames that the layout uses.
fn usable(
    found: Vec<usize>,
    frames: &[Frame],
    layout: Option<&Layout>,
) -> Result<Vec<usize>, Trouble> {
    let Some(layout) = layout else {
        return Ok(found);
    };
    let reason = |i: &usize| layout.frames.get(*i).and_then(|f| f.verdict.reason());
    let used: Vec<usize> = found
        .iter()
        .filter(|i| {
            layout
                .frames
                .get(**i)
                .is_none_or(|f| f.verdict == Verdict::Used)
        })
        .copied()
        .collect();
    match (used.is_empty(), found.iter().find_map(reason)) {
        (true, Some(reason)) => Err(Trouble::LeftOut {
            file: frames[found[0]].name(),
            reason: reason.to_owned(),
        }),
        _ => Ok(used),
    }
}

/// The frames that a name means: all of a filter in any spelling; else the file of that name; of a colour picture the
/// plane of the channel that is made, or the part after a point. Channel 3 is brightness.
pub fn find(frames: &[Frame], name: &str, channel: usize) -> Vec<usize> {
    let all = |wanted: &dyn Fn(&Frame) -> bool| -> Vec<usize> {
        (0..frames.len()).filter(|i| wanted(&frames[*i])).collect()
    };
    if let Some(filter) = Filter::named_by_hand(name) {
        let of_filter = all(&|f| f.filter == filter);
        if !of_filter.is_empty() {
            return of_filter;
        }
    }
    let of_file = |name: &str, plane: Option<usize>| {
        all(&|f| {
            stem(&f.path) == name && (f.plane.is_none() || plane.is_none() || f.plane == plane)
        })
    };
    let plane = (channel < 3).then_some(channel);
    let whole = of_file(name, plane);
    if !whole.is_empty() {
        return whole;
    }
    match name.rsplit_once('.') {
        Some((file, "light")) => of_file(file, None),
        Some((file, part)) => CHANNELS[..3]
            .iter()
            .position(|c| *c == part)
            .map(|c| all(&|f| stem(&f.path) == file && f.plane == Some(c)))
            .unwrap_or_default(),
        None => Vec::new(),
    }
}

/// The names of a palette that no frame has.
pub fn missing(palette: &Palette, frames: &[Frame]) -> Vec<String> {
    palette
        .needs()
        .into_iter()
        .filter(|n| find(frames, n, 0).is_empty())
        .collect()
}

/// A brightness that is the noise-weighted mean of all frames that a palette uses: each filter by the inverse of its
/// variance.
pub fn blend_of_all(bound: &Bound, noise: &[f32]) -> Option<(String, Mix)> {
    let weights: Vec<f32> = noise
        .iter()
        .map(|n| if *n > 0.0 { 1.0 / (n * n) } else { 0.0 })
        .collect();
    let sum: f32 = weights.iter().sum();
    let names: Vec<String> = bound.palette.needs();
    if sum <= 0.0 || names.len() != weights.len() {
        return None;
    }
    let terms: Vec<String> = names
        .iter()
        .zip(&weights)
        .map(|(n, w)| format!("{:.1}% \"{n}\"", 100.0 * w / sum))
        .collect();
    let text = terms.join(" + ");
    parse(&text).ok().map(|m| (text, m))
}

fn unknown_name(channel: &'static str, mix: &Mix, name: &Name, frames: &[Frame]) -> Trouble {
    let mut known: Vec<String> = Vec::new();
    for f in frames {
        let filter = f.filter.name().to_owned();
        if !known.contains(&filter) {
            known.push(filter);
        }
    }
    for f in frames {
        let file = stem(&f.path);
        if !known.contains(&file) {
            known.push(file);
        }
    }
    Trouble::MixName {
        channel,
        text: mix.text().to_owned(),
        name: name.text.clone(),
        column: name.column,
        known,
    }
}
