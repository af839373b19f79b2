//! The built program, driven on files in a temporary folder.

mod bad_input;
mod compose;
mod demo;
mod night;
mod normalize;
mod page;
mod register;
mod schema;
mod show;
mod survey;
