//! The engine of Numerant: takes consolidated data files apart, and proves that nothing was lost.
//!
//! **Sources → records → steps → addresses → outputs → ledger.** A source yields records; steps
//! change them; a name template makes an address of each; every distinct address is one output;
//! and the ledger shows that all that was read was written, left out or rejected.
//!
//! [`job::Job`] says what is to be done and [`engine::run`] does it. The engine prints nothing,
//! never exits, and reads neither clock nor environment: they are handed in with
//! [`engine::Context`].
//!
//! Arrows between the modules run one way: `engine` → (`step`, `route`, `output`, `ledger`) →
//! (`format`, `gather`, `expr`, `name`, `schema`) → (`source`, `record`, `value`).

pub mod disk;
pub mod engine;
pub mod expr;
pub mod format;
pub mod gather;
pub mod job;
pub mod ledger;
pub mod name;
pub mod output;
pub mod record;
pub mod route;
pub mod schema;
pub mod shape;
pub mod source;
pub mod step;
pub mod tree;
pub mod value;
mod workers;
