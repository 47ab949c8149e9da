//! From values to file names: keys and their parts, templates, safe names, and names that clash.

mod book;
mod key;
mod part;
mod pattern;
pub mod route;
mod safe;
mod template;
mod words;

pub use book::{Claim, Clash, ClashPolicy, NameBook, numbered};
pub use key::{Key, KeyError, parse_columns, parse_keys};
pub use part::{Part, PartError, ValueError};
pub use pattern::{NameMismatch, NamePattern, NamePatternError};
pub use safe::{fold, spelled_out};
pub use template::{RunField, RunValues, Template, TemplateError};
pub use words::{OutputFacts, OutputField, Word, Words, WordsError, parse_words, word};
