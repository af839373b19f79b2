//! What a composite is made of: names in mixes to frames, and the header of the result.

use std::fmt::Write as _;

use jigsawa_core::colour::mix::{BoundMix, Mix, Name, parse};
use jigsawa_core::colour::{Composite, Palette, White};
use jigsawa_core::filter::{Band, Filter};
use jigsawa_core::finish::Link;
use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_formats::fits::Cards;

use crate::account::Channel;
use crate::cli::ComposeArgs;
use crate::finish::{BROAD, NARROW};
use crate::frames::{Frame, stem};
use crate::tell::Trouble;

/// Names of the channels, in the order of a palette's mixes.
const CHANNELS: [&str; 4] = ["red", "green", "blue", "luminance"];

/// The palette that the user asks for.
pub fn palette(args: &ComposeArgs) -> Result<Palette, Trouble> {
    if let Some(name) = &args.palette {
        return Palette::by_name(name).map_err(|e| Trouble::Palette(e.0));
    }
    let mix = |channel: usize, text: &Option<String>| {
        let text = text.as_deref().unwrap_or_default();
        parse(text).map_err(|error| Trouble::Mix {
            channel: CHANNELS[channel],
            text: text.to_owned(),
            error,
        })
    };
    Ok(Palette {
        name: "mix".to_owned(),
        channels: [
            mix(0, &args.red)?,
            mix(1, &args.green)?,
            mix(2, &args.blue)?,
        ],
        luminance: args
            .luminance
            .is_some()
            .then(|| mix(3, &args.luminance))
            .transpose()?,
    })
}

/// A palette whose names stand for frames.
pub struct Bound {
    /// The mixes over the frames of `inputs`.
    mixes: Vec<BoundMix>,
    /// Frames that take part, as places in the list of frames, in order.
    pub inputs: Vec<usize>,
    /// What went into which channel.
    pub channels: Vec<Channel>,
    /// How its channels are best stretched: each on its own where all are made of lines alone.
    pub link: Link,
}

/// Finds the frame of every name in the palette.
pub fn bind(palette: &Palette, frames: &[Frame]) -> Result<Bound, Trouble> {
    let mut inputs: Vec<usize> = Vec::new();
    for mix in palette.mixes() {
        inputs.extend(mix.names().iter().filter_map(|n| find(frames, &n.text)));
    }
    inputs.sort_unstable();
    inputs.dedup();
    missing_filters(palette, frames)?;
    let (mut mixes, mut channels) = (Vec::new(), Vec::new());
    for (mix, channel) in palette.mixes().zip(CHANNELS) {
        let number = |n: &Name| {
            find(frames, &n.text)
                .and_then(|f| inputs.iter().position(|i| *i == f))
                .ok_or_else(|| unknown_name(channel, mix, n, frames))
        };
        mixes.push(mix.bind(number)?);
        let mut from: Vec<usize> = mix
            .names()
            .iter()
            .filter_map(|n| find(frames, &n.text))
            .collect();
        from.dedup();
        channels.push(Channel {
            name: channel,
            mix: mix.text().to_owned(),
            frames: from.iter().map(|i| frames[*i].name()).collect(),
        });
    }
    let narrow =
        palette.is_narrow(|n| find(frames, n).map_or(Band::Broad, |i| frames[i].filter.band()));
    Ok(Bound {
        mixes,
        inputs,
        channels,
        link: if narrow { Link::Each } else { Link::Linked },
    })
}

/// The frame that a name means: by its filter in any spelling, else by its file's name.
fn find(frames: &[Frame], name: &str) -> Option<usize> {
    let by_filter = Filter::named_by_hand(name)
        .and_then(|filter| frames.iter().position(|f| f.filter == filter));
    by_filter.or_else(|| {
        frames
            .iter()
            .position(|f| f.plane.is_none() && stem(&f.path) == name)
    })
}

/// A named palette says in one go what it lacks.
fn missing_filters(palette: &Palette, frames: &[Frame]) -> Result<(), Trouble> {
    if palette.name == "mix" {
        return Ok(());
    }
    let mut missing: Vec<String> = palette
        .mixes()
        .flat_map(Mix::names)
        .filter(|n| find(frames, &n.text).is_none())
        .map(|n| n.text.clone())
        .collect();
    missing.dedup();
    if missing.is_empty() {
        return Ok(());
    }
    Err(Trouble::PaletteNeeds {
        palette: palette.name.clone(),
        missing,
        have: frames.iter().map(|f| f.filter.name().to_owned()).collect(),
    })
}

fn unknown_name(channel: &'static str, mix: &Mix, name: &Name, frames: &[Frame]) -> Trouble {
    let mut known: Vec<String> = frames.iter().map(|f| f.filter.name().to_owned()).collect();
    known.extend(frames.iter().map(|f| stem(&f.path)));
    known.dedup();
    Trouble::MixName {
        channel,
        text: mix.text().to_owned(),
        name: name.text.clone(),
        column: name.column,
        known,
    }
}

impl Bound {
    /// The merge of the mixes.
    pub fn composite(&self, white: White) -> Option<Composite> {
        let [r, g, b] = self.mixes.get(..3)?.to_vec().try_into().ok()?;
        Some(Composite {
            channels: [r, g, b],
            luminance: self.mixes.get(3).cloned(),
            white,
        })
    }
}

/// The header of a composite: what it shows and what made it.
pub fn cards(palette: &Palette, bound: &Bound, layout: &Layout, object: Option<&str>) -> Cards {
    let mut cards = Cards::default();
    if let Some(object) = object {
        cards.text("OBJECT", object, "target");
    }
    cards.text("FILTER", &palette.name, "palette of the three planes");
    let mut filters: Vec<&str> = bound
        .inputs
        .iter()
        .map(|i| layout.frames[*i].filter.name())
        .collect();
    filters.dedup();
    cards.text("FILTERS", &filters.join(", "), "filters that went into it");
    let channels = if bound.link == Link::Each {
        NARROW
    } else {
        BROAD
    };
    cards.text("CHANNELS", channels, "what its planes are made of");
    cards.text(
        "ROWORDER",
        match layout.canvas.row_order {
            jigsawa_core::frame::RowOrder::BottomUp => "BOTTOM-UP",
            jigsawa_core::frame::RowOrder::TopDown => "TOP-DOWN",
        },
        "order of the rows",
    );
    cards.text(
        "CREATOR",
        concat!("Jigsawa ", env!("CARGO_PKG_VERSION")),
        "",
    );
    for c in &bound.channels {
        cards.history(&format!("{}: {}", c.name, c.mix));
    }
    cards.history(&format!("reference: {}", file_name(&layout.reference.file)));
    for i in &bound.inputs {
        cards.history(&frame_line(&layout.frames[*i]));
    }
    cards
}

/// What was done to one frame, for the history.
pub fn frame_line(f: &LayoutFrame) -> String {
    let mut line = format!("frame: {} ({})", file_name(&f.file), f.filter);
    // Writing to a string cannot fail.
    if let Some(p) = &f.placement {
        let d = &p.described;
        let mirrored = if d.mirrored { ", mirrored" } else { "" };
        let _ = write!(
            line,
            ", turn {:.3} deg, scale {:.5}{mirrored}",
            d.rotation_deg, d.scale
        );
        let _ = write!(line, ", {:.3} px rms", p.errors.rms_px);
    }
    if let Some(b) = &f.balance {
        let _ = write!(line, ", factor {:.5}", b.scale.value);
    }
    line
}

pub fn file_name(path: &str) -> String {
    std::path::Path::new(path)
        .file_name()
        .map_or_else(|| path.to_owned(), |n| n.to_string_lossy().into_owned())
}
