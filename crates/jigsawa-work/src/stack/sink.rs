//! A master and its map as they are written.

use std::path::Path;

use jigsawa_core::doors::{DoorError, TileSink};
use jigsawa_core::number::Convert;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};

use super::master::Paths;
use crate::outputs::begin;
use crate::trouble::Trouble;

/// Takes the merge's planes apart into files.
pub(super) struct Sink {
    pub(super) master: FitsWriter,
    pub(super) map: FitsWriter,
    /// Planes that the method gives for one of the master: the mean, the values in it, and others.
    of_each: usize,
    pub(super) values: f64,
    /// Sum of the errors of pixels that have any.
    errors: f64,
    pub(super) pixels: usize,
    pub(super) empty: usize,
    /// Parts are written over what is there.
    pub(super) again: bool,
}

impl Sink {
    /// The files of a master of so many planes, begun.
    pub(super) fn create(
        (paths, overwrite): (&Paths, bool),
        (planes, of_each): (usize, usize),
        size: Size,
        [cards, map_cards]: [Cards; 2],
    ) -> Result<Self, Trouble> {
        let create = |path: &Path, planes: usize, cards: &Cards| {
            FitsWriter::create(begin(path, overwrite)?, size, planes, Depth::Float, cards)
                .map_err(|error| wrong(path, error))
        };
        Ok(Self {
            master: create(&paths.master, planes, &cards)?,
            map: create(&paths.map, (of_each - 1) * planes, &map_cards)?,
            of_each,
            values: 0.0,
            errors: 0.0,
            pixels: size.area(),
            empty: 0,
            again: false,
        })
    }

    /// The mean of what is told of all pixels' noise.
    pub(super) fn mean_noise(&self) -> f64 {
        self.errors / (self.pixels - self.empty).max(1).real()
    }
}

impl TileSink for Sink {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        let (mut masters, mut maps) = (Vec::new(), Vec::new());
        for of_one in planes.chunks_exact(self.of_each) {
            masters.push(of_one[0]);
            maps.extend_from_slice(&of_one[1..]);
        }
        if self.again {
            self.master.patch(rect, &masters).map_err(boxed)?;
            return self.map.patch(rect, &maps).map_err(boxed);
        }
        // Of three colours the middle one speaks for all.
        let middle = masters.len() / 2 * self.of_each;
        let (counts, errors) = (planes[middle + 1], planes[middle + self.of_each - 1]);
        for (count, error) in counts.iter().zip(errors) {
            self.values += f64::from(*count);
            self.empty += usize::from(*count == 0.0);
            self.errors += if error.is_finite() {
                f64::from(*error)
            } else {
                0.0
            };
        }
        self.master.put(rect, &masters)?;
        self.map.put(rect, &maps)
    }
}

fn boxed(error: FileError) -> DoorError {
    DoorError(Box::new(error))
}

pub(super) fn wrong(path: &Path, error: FileError) -> Trouble {
    Trouble::Write {
        file: path.to_owned(),
        error,
    }
}
