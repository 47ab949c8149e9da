//! Why outputs are not written as they were wanted, and what was done about their names.

use std::path::PathBuf;

use numerant_naming::{ClashPolicy, fold, spelled_out};

/// The outputs would not be what was wanted. Lists hold the first 1,000.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// More outputs than are allowed.
    #[error("this would write {}{found} outputs, more than the {most} that are allowed; nothing was written", if *.at_least { "more than " } else { "" })]
    TooMany {
        /// How many.
        found: u64,
        /// There are more; counting was given up.
        at_least: bool,
        /// How many are allowed.
        most: u64,
    },
    /// Outputs whose names fall together.
    #[error("{count} output{} would share a file or sheet with another, at least on a system that ignores case; nothing was written", if *.count == 1 { "" } else { "s" })]
    Clashes {
        /// Which.
        clashes: Vec<NameClash>,
        /// How many in all.
        count: u64,
    },
    /// Files whose outputs would fall together.
    #[error("{count} file{} would become the same output as another, at least on a system that ignores case; nothing was written", if *.count == 1 { "" } else { "s" })]
    FilesClash {
        /// Which.
        clashes: Vec<NameClash>,
        /// How many in all.
        count: u64,
    },
    /// Outputs that exist.
    #[error("{count} of the outputs exist{} already; nothing was written", if *.count == 1 { "s" } else { "" })]
    Existing {
        /// Which.
        outputs: Vec<ExistingOutput>,
        /// How many in all.
        count: u64,
    },
    /// A file next to the outputs, or the one that they all go into, exists.
    #[error("{} exists already; nothing was written", .path.display())]
    FileExists {
        /// The file.
        path: PathBuf,
    },
    /// The folder that would be made exists and has something in it.
    #[error("the folder {} exists already and is not empty; nothing was written", .out.display())]
    FolderExists {
        /// The folder.
        out: PathBuf,
    },
    /// An output would take the place of a source.
    #[error("the output {} is the source {source_name} itself; a source is never written to", .path.display())]
    Source {
        /// The output.
        path: PathBuf,
        /// The source.
        source_name: String,
    },
    /// Outputs with more records than a sheet has room for.
    #[error("{} output{} more records than the {most} that a sheet has room for; nothing was written", .outputs.len(), if .outputs.len() == 1 { " has" } else { "s have" })]
    Outgrown {
        /// Which, and their records.
        outputs: Vec<(String, u64)>,
        /// Records that there may be.
        most: u64,
    },
    /// Copies of a template for which a table has no records.
    #[error("{} cop{} of the template would lack a table; nothing was written", .copies.len(), if .copies.len() == 1 { "y" } else { "ies" })]
    Incomplete {
        /// Which, and the places of the tables.
        copies: Vec<(String, Vec<String>)>,
    },
    /// An output, the ledger or the rejects would share a file.
    #[error("{} is named twice: as an output and as the {}", .path.display(), .kind.noun())]
    SideFile {
        /// The file.
        path: PathBuf,
        /// What it is for.
        kind: SideFileKind,
    },
}

/// What a file next to the outputs is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SideFileKind {
    /// The ledger of the run.
    Ledger,
    /// The records that were rejected.
    Rejects,
    /// The report of the run.
    Page,
}

impl SideFileKind {
    fn noun(self) -> &'static str {
        match self {
            Self::Ledger => "ledger",
            Self::Rejects => "file of rejected records",
            Self::Page => "page of the run",
        }
    }
}

/// Two outputs that would share a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameClash {
    /// The file.
    pub path: String,
    /// The key values of the output that has it.
    pub first: String,
    /// The key values of the output that wants it.
    pub second: String,
    /// One is a file where the other needs a folder.
    pub folder: bool,
    /// How many outputs want it, the one that has it among them.
    pub outputs: u64,
}

/// An output that exists.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExistingOutput {
    /// Where.
    pub path: PathBuf,
}

/// Values that were changed for names.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NamesChanged {
    /// How many outputs.
    pub count: u64,
    /// Values and names of the first of them.
    pub examples: Vec<(String, String)>,
}

impl Refusal {
    /// The lines that say which, the first `most` of them, and how many are left.
    pub fn details(&self, most: usize) -> (Vec<String>, u64) {
        let (lines, count): (Vec<String>, u64) = match self {
            Self::Clashes { clashes, .. } | Self::FilesClash { clashes, .. } => {
                let lines: Vec<String> = clashes.iter().map(NameClash::line).collect();
                let count = lines.len() as u64;
                (lines, count)
            }
            Self::Existing { outputs, count } => (
                outputs
                    .iter()
                    .map(|output| output.path.display().to_string())
                    .collect(),
                *count,
            ),
            Self::Outgrown { outputs, .. } => {
                let line = |(path, records): &(String, u64)| format!("{path}: {records} records");
                let lines: Vec<String> = outputs.iter().map(line).collect();
                let count = lines.len() as u64;
                (lines, count)
            }
            Self::Incomplete { copies } => {
                let line = |(path, places): &(String, Vec<String>)| {
                    format!("{path}: no records for {}", places.join(", "))
                };
                let lines: Vec<String> = copies.iter().map(line).collect();
                let count = lines.len() as u64;
                (lines, count)
            }
            _ => return (Vec::new(), 0),
        };
        let lines: Vec<String> = lines.into_iter().take(most).collect();
        let left = count - lines.len() as u64;
        (lines, left)
    }
}

impl NameClash {
    /// Whether the values of its outputs differ only in case or blanks.
    pub fn is_fold(&self) -> bool {
        let folded = |text: &str| text.split_whitespace().collect::<String>().to_lowercase();
        !self.folder && self.first != self.second && folded(&self.first) == folded(&self.second)
    }

    fn line(&self) -> String {
        let Self {
            path,
            first,
            second,
            folder,
            outputs,
        } = self;
        if *folder {
            return format!(
                "{path}: for '{second}' a file, for '{first}' a folder, or the reverse"
            );
        }
        if first == second {
            return match outputs {
                2 => format!("{path}: wanted twice"),
                _ => format!("{path}: wanted {outputs} times"),
            };
        }
        let more = match outputs - 2 {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        if fold(first) == fold(second) && !first.is_ascii() {
            // They look the same.
            return format!(
                "{path}: '{}' and '{}'{more}",
                spelled_out(first),
                spelled_out(second)
            );
        }
        format!("{path}: '{first}' and '{second}'{more}")
    }
}

/// Outputs whose names fell together, and what was done about it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NamesClashed {
    /// What was done.
    pub policy: ClashPolicy,
    /// Outputs whose name another one had before.
    pub count: u64,
    /// The first of the names.
    pub examples: Vec<String>,
}
