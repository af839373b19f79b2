//! The core against the made-up sky, whose truth is known: the demo's six masters, registered,
//! balanced and resampled.

mod balance;
mod calibrate;
mod detect;
mod drops;
mod expressions;
mod finish;
mod flaws;
mod garbage;
mod gradients;
mod hdr;
mod levels;
mod looks;
mod masters;
mod matching;
mod merge;
mod mosaic;
mod mosaic_joined;
mod mosaic_levels;
mod mosaic_made;
mod night;
mod pattern;
mod placement;
mod resample;
mod scaled_darks;
mod setup;
mod stack;
mod starless;
mod survey;
mod told;
mod uneven;
