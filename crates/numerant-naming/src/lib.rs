//! From values to file names: keys and their parts, templates, safe names, names that clash, and the routing of
//! records to groups and outputs.
//!
//! A [`Template`] names the path of each output; the columns in it are keys. What comes of a value never names a
//! file outside the output folder, a device, or a name that another system cannot hold.
//!
//! ```
//! use numerant_naming::Template;
//!
//! let template: Template = "{quay}/{arrived:month}.csv".parse().expect("a template");
//! let columns: Vec<&str> = template.keys().iter().map(|key| key.column.as_str()).collect();
//! assert_eq!(columns, ["quay", "arrived"]);
//! ```

mod key;
mod name_registry;
mod part;
mod pattern;
pub mod route;
mod safe;
mod template;
mod words;

pub use key::{Key, KeyError, parse_columns, parse_keys};
pub use name_registry::{Claim, Clash, ClashPolicy, NameRegistry, numbered};
pub use part::{Part, PartError, ValueError};
pub use pattern::{NameMismatch, NamePattern, NamePatternError};
pub use safe::{fold, spelled_out};
pub use template::{RunField, RunValues, Template, TemplateError};
pub use words::{OutputFacts, OutputField, Word, Words, WordsError, parse_words, word};
