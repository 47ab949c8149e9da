//! The journal of deliveries: what was handed over, what was not, and what is in doubt.

use std::collections::HashMap;
use std::fs::{File, TryLockError};
use std::io::{self, BufRead, BufReader, Write};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

/// The form of the lines; it grows when a reader of older lines would be misled.
const FORM: u32 = 1;

/// A line of the journal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct JournalEntry {
    /// The form of the line.
    pub form: u32,
    /// When, after ISO 8601.
    pub at: String,
    /// The message.
    pub message: String,
    /// What happened.
    pub event: Event,
    /// How it was handed over.
    pub channel: String,
    /// Who it is for.
    pub to: Vec<String>,
    /// The outputs in it: path and BLAKE3 digest.
    pub outputs: Vec<(String, String)>,
    /// What came back.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub reply: String,
}

/// What happened to a message.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Event {
    /// It is being handed over.
    Begun,
    /// It was taken.
    Delivered,
    /// It was not taken.
    Refused,
    /// It was handed over, and no answer came.
    Unclear,
}

/// What is known of a message.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// It was not handed over.
    Missing,
    /// It was taken.
    Delivered,
    /// It was handed over, and it is not known whether it was taken.
    InDoubt,
}

/// A journal that cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum JournalError {
    /// It cannot be read or written.
    #[error("{}: {cause}", .path.display())]
    Io {
        /// The journal.
        path: PathBuf,
        /// Why.
        cause: io::Error,
    },
    /// A line that is none.
    #[error("{}, line {line}: {why}", .path.display())]
    Line {
        /// The journal.
        path: PathBuf,
        /// The line, from 1.
        line: usize,
        /// What is wrong.
        why: String,
    },
    /// Another delivery is at work.
    #[error("{}: another delivery is at work with this journal", .0.display())]
    Busy(PathBuf),
}

/// A journal.
#[derive(Debug)]
pub struct Journal {
    path: PathBuf,
    file: File,
    entries: Vec<JournalEntry>,
    states: HashMap<String, State>,
}

impl Journal {
    /// Opens a journal, which is made if it is not there, and keeps others from it.
    ///
    /// # Errors
    ///
    /// If it cannot be read, is none, or another delivery uses it.
    pub fn open(path: &Path) -> Result<Self, JournalError> {
        let failed = |cause| JournalError::Io {
            path: path.to_owned(),
            cause,
        };
        let file = File::options()
            .create(true)
            .read(true)
            .append(true)
            .open(path)
            .map_err(failed)?;
        match file.try_lock() {
            Err(TryLockError::WouldBlock) => return Err(JournalError::Busy(path.to_owned())),
            // A file system without locks is no reason not to deliver.
            Ok(()) | Err(TryLockError::Error(_)) => {}
        }
        let entries = Self::lines(path, &file)?;
        let mut journal = Self {
            path: path.to_owned(),
            file,
            entries: Vec::new(),
            states: HashMap::new(),
        };
        entries.into_iter().for_each(|entry| journal.take(entry));
        Ok(journal)
    }

    /// The lines of a journal that is there.
    ///
    /// # Errors
    ///
    /// If it cannot be read, or is none.
    pub fn read(path: &Path) -> Result<Vec<JournalEntry>, JournalError> {
        let file = File::open(path).map_err(|cause| JournalError::Io {
            path: path.to_owned(),
            cause,
        })?;
        Self::lines(path, &file)
    }

    fn lines(path: &Path, file: &File) -> Result<Vec<JournalEntry>, JournalError> {
        let failed = |cause| JournalError::Io {
            path: path.to_owned(),
            cause,
        };
        let mut entries = Vec::new();
        let mut reader = BufReader::new(file);
        let mut text = String::new();
        for line in 1.. {
            text.clear();
            if reader.read_line(&mut text).map_err(failed)? == 0 {
                break;
            }
            // A line that was cut by a crash was not synced, so nothing was done after it.
            if !text.ends_with('\n') {
                break;
            }
            let wrong = |why: String| JournalError::Line {
                path: path.to_owned(),
                line,
                why,
            };
            let entry: JournalEntry =
                serde_json::from_str(&text).map_err(|error| wrong(error.to_string()))?;
            if entry.form > FORM {
                return Err(wrong("it is of a newer version".to_owned()));
            }
            entries.push(entry);
        }
        Ok(entries)
    }

    fn take(&mut self, entry: JournalEntry) {
        let state = match entry.event {
            Event::Begun | Event::Unclear => State::InDoubt,
            Event::Delivered => State::Delivered,
            Event::Refused => State::Missing,
        };
        self.states.insert(entry.message.clone(), state);
        self.entries.push(entry);
    }

    /// What is known of a message.
    pub fn state(&self, message: &str) -> State {
        self.states.get(message).copied().unwrap_or(State::Missing)
    }

    /// Its lines.
    pub fn entries(&self) -> &[JournalEntry] {
        &self.entries
    }

    /// Writes a line, which is on the disk when this returns.
    ///
    /// # Errors
    ///
    /// If it cannot be written.
    pub fn write(&mut self, mut entry: JournalEntry) -> Result<(), JournalError> {
        entry.form = FORM;
        let failed = |cause| JournalError::Io {
            path: self.path.clone(),
            cause,
        };
        let mut line = serde_json::to_vec(&entry).map_err(|error| failed(error.into()))?;
        line.push(b'\n');
        self.file
            .write_all(&line)
            .and_then(|()| self.file.sync_data())
            .map_err(failed)?;
        self.take(entry);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(message: &str, event: Event) -> JournalEntry {
        JournalEntry {
            form: 0,
            at: "2026-03-05T09:30:00".to_owned(),
            message: message.to_owned(),
            event,
            channel: "smtp".to_owned(),
            to: vec!["a@x.example".to_owned()],
            outputs: vec![("a.csv".to_owned(), "00".to_owned())],
            reply: String::new(),
        }
    }

    #[test]
    fn states_are_those_of_the_last_lines() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("deliveries.jsonl");
        let mut journal = Journal::open(&path).expect("new");
        assert!(matches!(Journal::open(&path), Err(JournalError::Busy(_))));
        for (message, event) in [
            ("a", Event::Begun),
            ("a", Event::Delivered),
            ("b", Event::Begun),
            ("c", Event::Begun),
            ("c", Event::Refused),
            ("d", Event::Begun),
            ("d", Event::Unclear),
        ] {
            journal.write(entry(message, event)).expect("written");
        }
        drop(journal);
        // A crash in the middle of a line.
        let mut file = File::options().append(true).open(&path).expect("there");
        file.write_all(b"{\"form\":1,\"at\"").expect("written");
        let journal = Journal::open(&path).expect("there");
        let states = ["a", "b", "c", "d", "e"].map(|message| journal.state(message));
        use State::{Delivered, InDoubt, Missing};
        assert_eq!(states, [Delivered, InDoubt, Missing, InDoubt, Missing]);
        assert_eq!(journal.entries().len(), 7);
    }

    #[test]
    fn what_is_no_journal_is_an_error() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("calls.csv");
        std::fs::write(&path, "id,quay\n1,North\n").expect("written");
        let error = Journal::open(&path).expect_err("no journal").to_string();
        assert!(error.contains("calls.csv, line 1"), "{error}");
    }
}
