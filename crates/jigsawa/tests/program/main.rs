//! The built program, driven on files in a temporary folder.

mod bad_input;
mod calibrate;
mod calibrate_odd;
mod compose;
mod demo;
mod faults;
mod finish;
mod hdr;
mod hostile;
mod masters;
mod mosaic;
mod mosaic_odd;
mod mosaic_wrong;
mod night;
mod normalize;
mod page;
mod palettes;
mod register;
mod run;
mod safekeeping;
mod schema;
mod shell;
mod show;
mod stack;
mod survey;
