//! From values to file names: keys and their parts, templates, safe names, and names that clash.

mod book;
mod key;
mod part;
mod pattern;
mod safe;
mod template;
mod words;

pub(crate) use book::{Claim, NameBook, numbered};
pub use book::{Clash, ClashPolicy};
pub use key::{Key, KeyError, parse_columns, parse_keys};
pub use part::{Part, PartError, ValueError};
pub use pattern::{NameMismatch, NamePattern, NamePatternError};
pub(crate) use safe::{fold, spelled_out};
pub(crate) use template::RunValues;
pub use template::{RunField, Template, TemplateError};
pub use words::{OutputFacts, OutputField, Words, WordsError};
pub(crate) use words::{Word, parse_words, word};
