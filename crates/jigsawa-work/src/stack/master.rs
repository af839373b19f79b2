//! A master: its files, what it was made of, and how that went.

use std::path::{Path, PathBuf};

use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::resample::Drops;
use jigsawa_core::stack::{Rejection, Streak};
use jigsawa_formats::whole::Unfinished;
use serde::{Deserialize, Serialize};

/// Where the files of a set go.
#[derive(Debug)]
pub struct Paths {
    /// The master.
    pub master: PathBuf,
    /// The map of what is in it.
    pub map: PathBuf,
}

impl Paths {
    /// For a set's files.
    pub fn new(folder: &Path, start: &str, part: &str) -> Self {
        let file = |ending: &str| folder.join(format!("{start}-{part}-master{ending}.fits"));
        Self {
            master: file(""),
            map: file("-map"),
        }
    }
}

/// A master, its files under temporary names still; or one that is kept, with what tells its files.
#[derive(Serialize, Deserialize)]
pub struct Master<F = Unfinished> {
    /// The master.
    pub file: F,
    /// The map.
    pub map: F,
    /// How outliers were told.
    pub rejection: Rejection,
    /// The frame whose units it has.
    pub units_of: usize,
    /// The frames, plane after plane.
    pub frames: Vec<OfFrame>,
    /// The noise of its sky, or of green's.
    pub noise: f64,
    /// The mean of what its map tells of all pixels' noise.
    pub(super) mean_noise: f64,
    /// Values in a pixel on average, where there are any.
    pub depth: f64,
    /// Pixels without any.
    pub empty: usize,
    /// How its pixels were dropped, where they were.
    pub dropped: Option<DroppedHow>,
}

impl<F> Master<F> {
    /// The same with other files.
    pub(super) fn with<G>(&self, file: G, map: G) -> Master<G> {
        Master {
            file,
            map,
            rejection: self.rejection,
            units_of: self.units_of,
            frames: self.frames.clone(),
            noise: self.noise,
            mean_noise: self.mean_noise,
            depth: self.depth,
            empty: self.empty,
            dropped: self.dropped,
        }
    }
}

/// A frame's part in a master.
#[derive(Clone, Serialize, Deserialize)]
pub struct OfFrame {
    /// Its number in the layout.
    pub frame: usize,
    /// How much it counts.
    pub weight: f64,
    /// The noise of its sky in the master's units.
    pub noise: f64,
    /// Its values on the canvas.
    pub values: u64,
    /// Values that were rejected.
    pub rejected: u64,
    /// Trails that were found in it.
    pub streaks: Vec<Streak>,
    /// What was rejected where: pixels of each block of the canvas.
    #[serde(with = "picture")]
    pub picture: Plane,
}

impl OfFrame {
    /// The part of its values that was rejected.
    pub fn part_rejected(&self) -> f64 {
        self.rejected.real() / self.values.max(1).real()
    }
}

/// How the pixels of a master were dropped, and whether that went well.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct DroppedHow {
    /// The drops.
    pub drops: Drops,
    /// A colour camera's own pixels, none of them made up.
    pub own_pixels: bool,
    /// Canvas pixels that nothing has fallen on, though frames cover them.
    pub holes: usize,
    /// The part of all places between pixels that the dithers have visited.
    pub phases: f64,
    /// By how much more noise there is on large scales than pixels show: neighbours share drops.
    pub tied: f64,
}

/// A small plane as its size and its values.
mod picture {
    use jigsawa_core::plane::Plane;
    use jigsawa_core::space::Size;
    use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

    pub fn serialize<S: Serializer>(plane: &Plane, out: S) -> Result<S::Ok, S::Error> {
        let size = plane.size();
        (size.width(), size.height(), plane.data()).serialize(out)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Plane, D::Error> {
        let (width, height, data) = <(usize, usize, Vec<f32>)>::deserialize(from)?;
        let plane = Size::new(width, height).and_then(|size| Plane::new(size, data));
        plane.ok_or_else(|| D::Error::custom("no picture"))
    }
}
