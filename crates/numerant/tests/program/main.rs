//! Runs the built program on files in a folder of its own and holds what it says and writes
//! against what it should.

mod bad_input;
mod cases;
mod deliver;
mod demo;
mod documents;
mod guide;
mod help;
mod hostile;
mod house;
mod inspect;
mod jobs;
mod split;
mod streams;
mod support;
mod trust;
mod values;
mod verify;
mod ways;
mod workbooks;
