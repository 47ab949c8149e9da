//! The tests of the library: whole runs on files in temporary folders, in one program.

mod archives;
mod batch;
mod conformance;
mod documents;
mod faults;
mod foreign;
mod formats;
mod look;
mod memory;
mod messages;
mod mutations;
mod odd_books;
mod records;
mod samples;
mod sheets;
mod split;
mod support;
mod ways;
