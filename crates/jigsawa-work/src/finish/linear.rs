//! The linear file that is finished: its planes, and what its header says of it.

use std::path::{Path, PathBuf};

use jigsawa_core::doors::FrameSource;
use jigsawa_core::finish::Link;
use jigsawa_core::frame::FrameFacts;
use jigsawa_formats::facts;
use jigsawa_formats::fits::{FitsFrame, FitsPlane};

use crate::frames::stem;
use crate::picture::Caption;
use crate::trouble::Trouble;
use crate::words::duration;

/// A linear result, open.
pub struct LinearFile {
    /// The file as it was typed.
    pub path: PathBuf,
    /// The open file.
    pub file: FitsFrame,
    /// What its header says.
    pub facts: FrameFacts,
}

impl LinearFile {
    /// Opens a result of three planes, or of one.
    pub fn open(path: &Path) -> Result<Self, Trouble> {
        let file = FitsFrame::open(path).map_err(|e| Trouble::Files(vec![(path.to_owned(), e)]))?;
        let facts = facts::read(&file);
        Ok(Self {
            path: path.to_owned(),
            file,
            facts,
        })
    }

    /// Red, green and blue; three times the one plane of a grey file.
    pub fn planes(&self) -> [FitsPlane<'_>; 3] {
        let of = |p: usize| self.file.plane(p.min(self.file.planes() - 1));
        [of(0), of(1), of(2)]
    }

    /// The planes as the file has them, once each.
    pub fn own_planes(&self) -> Vec<FitsPlane<'_>> {
        (0..self.file.planes())
            .map(|p| self.file.plane(p))
            .collect()
    }

    /// Has it a plane for each colour?
    pub fn is_colour(&self) -> bool {
        self.file.planes() == 3
    }

    /// Is it made of narrowband lines alone? `compose` has written it down.
    pub fn is_narrow(&self) -> bool {
        self.file.header().text("CHANNELS").as_deref() == Some(NARROW)
    }

    /// Is it a nebula in narrowband under stars in broadband?
    pub fn is_mixed(&self) -> bool {
        self.file.header().text("CHANNELS").as_deref() == Some(MIXED)
    }

    /// How its channels are stretched where nothing is asked for.
    pub fn link(&self) -> Link {
        if self.is_narrow() {
            Link::Each
        } else {
            Link::Linked
        }
    }

    /// The start of its results' names.
    pub fn stem(&self) -> String {
        stem(&self.path)
    }

    /// What a caption and the pictures' words may say of it.
    pub fn caption(&self) -> Caption {
        let h = self.file.header();
        let text = |name: &str| h.text(name).unwrap_or_default();
        Caption {
            target: self.facts.object.clone().unwrap_or_else(|| self.stem()),
            palette: text("FILTER"),
            filters: text("FILTERS"),
            time: h.number("EXPTOTAL").map(duration).unwrap_or_default(),
            date: self
                .facts
                .evening
                .clone()
                .or_else(|| {
                    self.facts
                        .date
                        .as_ref()
                        .map(|d| d.chars().take(10).collect())
                })
                .unwrap_or_default(),
        }
    }
}

/// What `compose` writes into CHANNELS for a composite of narrowband lines alone, for one whose nebula is and whose stars are
/// not, and for any other.
pub const NARROW: &str = "narrowband";
/// The card of a picture of lines with natural stars.
pub const MIXED: &str = "narrowband, broadband stars";
/// The card of a picture of broad filters.
pub const BROAD: &str = "broadband";

/// Planes as the core reads them.
pub fn doors<'a>(planes: &'a [FitsPlane<'_>; 3]) -> [&'a dyn FrameSource; 3] {
    [&planes[0], &planes[1], &planes[2]]
}

/// The same of however many.
pub fn own_doors<'a>(planes: &'a [FitsPlane<'_>]) -> Vec<&'a dyn FrameSource> {
    planes.iter().map(|p| p as &dyn FrameSource).collect()
}
