//! What there is to a document besides its records.

use std::sync::Arc;

use super::messages::MessageFacts;
use super::{EncodeError, Patch, RecordEncoder, WriteOptions};
use numerant_data::encoding::Encoding;
use numerant_data::source::ReadError;
use numerant_data::tree::{Occurrences, Survey, ValuesBeside};

/// What stands around the records of a document, so that some of them can be written verbatim.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DocumentFrame {
    /// Before the first record.
    pub head: Vec<u8>,
    /// Between the first two.
    pub between: Vec<u8>,
    /// Behind the last.
    pub foot: Vec<u8>,
    /// The records do not all are in one place, so that no text is around all of them.
    pub scattered: bool,
    /// The encoding that the document is written in, where it is not UTF-8. All of this is UTF-8.
    pub encoding: Option<Encoding>,
}

impl DocumentFrame {
    /// What is around values a line.
    pub fn lines() -> Self {
        Self {
            between: b"\n".to_vec(),
            foot: b"\n".to_vec(),
            ..Self::default()
        }
    }

    /// What is around values in a list.
    pub fn list() -> Self {
        Self {
            head: b"[\n".to_vec(),
            between: b",\n".to_vec(),
            foot: b"\n]\n".to_vec(),
            scattered: false,
            encoding: None,
        }
    }
}

/// A prefix that represents different namespaces within one document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Redeclared {
    /// The prefix; empty for names without one.
    pub prefix: String,
    /// The namespaces; the first is empty where names without a prefix were in none.
    pub namespaces: [String; 2],
}

/// Where the records of a document are, and what is besides them.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct TreeFacts {
    /// Where they are: a JSONPath, or an XPath.
    pub records: String,
    /// That was found out and not said.
    pub found: bool,
    /// Other places where records may be.
    pub others: Vec<String>,
    /// Values that stand next to the records, by their paths.
    pub beside: Vec<String>,
    /// What to say so that records have those, too: a place of records, and the list in them.
    pub above: Option<(String, String)>,
    /// The names of the element around the records, and of those themselves.
    #[serde(skip)]
    pub elements: Option<(String, String)>,
    /// A value of JSON follows another, as in JSON Lines.
    #[serde(skip)]
    pub lines: bool,
    /// The names of the columns, where they are the first of the values that follow each other, which
    /// are lists.
    #[serde(skip)]
    pub header: Option<Vec<String>>,
    /// The document itself is the record.
    #[serde(skip)]
    pub single: bool,
    /// What becomes of lists.
    pub lists: String,
}

/// What there is to a document besides the records that are flattened.
pub trait Document {
    /// Where its records are.
    fn facts(&self) -> &TreeFacts;

    /// Goes through all of it and says what is in it.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    fn survey(&self) -> Result<Survey, ReadError>;

    /// Prefixes of names and the namespaces that they represent.
    fn namespaces(&self) -> &[(String, String)];

    /// What stands around the records: as far as it is known, and all of it when all are read.
    fn frame(&self) -> DocumentFrame;

    /// A list with more items than there may be columns, which is in one cell as JSON, if its column
    /// is in use: an error for whoever needs its columns.
    fn long_list(&self, _in_use: &dyn Fn(&str) -> bool) -> Option<ReadError> {
        None
    }

    /// Whether records are members of an object, and their names a column.
    fn is_keyed(&self) -> bool {
        false
    }

    /// A prefix that represents different namespaces, in what is known of it so far.
    fn redeclared(&self) -> Option<Redeclared> {
        None
    }

    /// The values next to the records, of what was read so far.
    fn values_beside(&self) -> Vec<ValuesBeside> {
        Vec::new()
    }

    /// What was found of each kind of message so far, if its records are in messages.
    fn messages(&self) -> &[MessageFacts] {
        &[]
    }

    /// What writes its records in a format verbatim, where that takes more than their texts.
    fn writer(&self, _to: &str, _options: &WriteOptions) -> Option<Arc<dyn RecordEncoder>> {
        None
    }

    /// How columns are named that are occurrences of one value, of which a condition has to hold for any.
    fn occurrences(&self) -> Option<Occurrences> {
        None
    }

    /// What writes its records with the changes that columns have, in the order of their parts in the
    /// source; `None` if they have no such order.
    ///
    /// # Errors
    ///
    /// A column has no place in its records.
    fn patcher(&self, _patch: &Patch<'_>) -> Option<Result<Arc<dyn RecordEncoder>, EncodeError>> {
        None
    }

    /// Only these columns are needed, with all their numbers; others may be left blank.
    fn only(&mut self, _columns: &[String]) {}

    /// Asks for the texts of records, too, of which all columns are wanted.
    fn keep_texts(&mut self);

    /// Asks for the records verbatim, too. Columns that are not wanted then may be left blank.
    fn keep_own(&mut self, wanted: Option<Vec<bool>>);
}
