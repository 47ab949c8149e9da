//! What the tests of the library share.

#![allow(dead_code, reason = "each of the tests uses a part of it")]

pub(crate) mod faults;
pub(crate) mod mutate;

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use numerant_data::source::SourcePath;
use numerant_engine::job::Job;
use numerant_engine::{
    BatchFile, BatchSummary, Context, FileDisposition, Inspection, SkipReason, Summary, Unobserved,
    files, inspect, run,
};
use zip::write::SimpleFileOptions;

/// A context with a fixed clock and few open files.
pub(crate) fn context() -> Context {
    Context {
        now: jiff::civil::date(2026, 3, 5).at(14, 20, 5, 0),
        cancel: Arc::new(AtomicBool::new(false)),
        observer: Arc::new(Unobserved),
        open_files: 30,
        processors: 2,
        disk: numerant_data::disk::Disk::default(),
        own_files: Vec::new(),
        commits: std::sync::Arc::default(),
        temporary: std::env::temp_dir(),
    }
}

/// All files in and below a folder, hidden ones too, by path below it, with their bytes; none if there
/// is no folder.
pub(crate) fn tree(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(next) = folders.pop() {
        for entry in fs::read_dir(&next).into_iter().flatten() {
            let path = entry.expect("an entry").path();
            if path.is_dir() {
                folders.push(path);
            } else {
                let name = path.strip_prefix(folder).expect("below it").to_owned();
                found.insert(name, fs::read(&path).expect("readable"));
            }
        }
    }
    found
}

/// All files in and below a folder, as sources.
pub(crate) fn files_below(folder: &Path) -> Vec<SourcePath> {
    let job = Job {
        sources: vec![folder.to_owned().into()],
        recursive: true,
        ..Job::default()
    };
    files(&job).expect("files")
}

/// A job that writes all of `source` to the path `name` in a folder.
pub(crate) fn job(source: &Path, name: &str, out: &Path) -> Job {
    Job {
        sources: vec![source.to_owned().into()],
        name: Some(name.parse().expect("a template")),
        out: Some(out.to_owned()),
        ..Job::default()
    }
}

/// Converts `source` to the file `name` in a folder of its own and returns its path.
pub(crate) fn convert(source: &Path, name: &str, out: &Path) -> (PathBuf, Summary) {
    let summary = run(&job(source, name, out), &context()).expect("converted");
    assert!(summary.ledger.balanced);
    let path = out.join(name);
    if name.ends_with(".xlsx") || name.ends_with(".ods") {
        assert_narrow(&path);
    }
    (path, summary)
}

/// Asserts that no part of a package has the wide form of zip archives, which some programs do not read.
pub(crate) fn assert_narrow(path: &Path) {
    let bytes = fs::read(path).expect("readable");
    let mut archive =
        zip::ZipArchive::new(fs::File::open(path).expect("there")).expect("a package");
    for place in 0..archive.len() {
        let part = archive.by_index_raw(place).expect("a part");
        let start = usize::try_from(part.header_start()).expect("small");
        assert!(bytes[start + 4] <= 20, "{:?}", part.name());
        assert_ne!(
            bytes[start + 22..start + 26],
            [0xff; 4],
            "{:?}",
            part.name()
        );
    }
}

/// What is in all sheets of a workbook.
pub(crate) fn look(path: &Path) -> Vec<Inspection> {
    inspect(&path.to_owned().into(), &Job::default(), 50, &context()).expect("readable")
}

/// A package with the parts given.
pub(crate) fn package(path: &Path, parts: &[(&str, &str)]) {
    let file = fs::File::create(path).expect("created");
    let mut zip = zip::ZipWriter::new(file);
    for (name, text) in parts {
        zip.start_file(*name, SimpleFileOptions::default())
            .expect("begun");
        zip.write_all(text.as_bytes()).expect("written");
    }
    zip.finish().expect("finished");
}

/// A folder with files.
pub(crate) struct Folder(tempfile::TempDir);

impl Folder {
    pub(crate) fn with(files: &[(&str, &str)]) -> Self {
        let folder = Self(tempfile::tempdir().expect("a folder"));
        for (name, text) in files {
            folder.write(name, text);
        }
        folder
    }

    /// A folder with files in memory, where there is one, so that syncing takes no time.
    pub(crate) fn in_memory(files: &[(&str, &str)]) -> Self {
        let folder = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir());
        let folder = Self(folder.expect("a folder"));
        for (name, text) in files {
            folder.write(name, text);
        }
        folder
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, text: &str) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().expect("a parent")).expect("made");
        fs::write(path, text).expect("written");
    }

    pub(crate) fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
    }

    /// All files, as paths below the folder.
    pub(crate) fn all(&self) -> Vec<String> {
        let files = tree(self.0.path()).into_keys();
        files.map(|path| path.display().to_string()).collect()
    }

    /// A batch of all that is in and below a folder.
    pub(crate) fn convert(&self, from: &str, to: &str) -> Job {
        Job {
            sources: vec![self.path(from).into()],
            to: Some(to.to_owned()),
            batch: true,
            recursive: true,
            ..Job::default()
        }
    }
}

/// What became of each file of a batch, by its name.
pub(crate) fn dispositions(batch: &BatchSummary) -> Vec<String> {
    let disposition = |file: &BatchFile| {
        let name = Path::new(&file.source).file_name().expect("a name");
        let disposition = match &file.disposition {
            FileDisposition::Done {
                records, outputs, ..
            } => format!("{records} to {}", outputs.join(", ")),
            FileDisposition::Skipped(reason) => match reason {
                SkipReason::OutputOf(other) => {
                    let other = Path::new(other).file_name().expect("a name");
                    format!("output of {}", other.display())
                }
                other => format!("{other:?}"),
            },
            FileDisposition::Failed(error) => format!("failed: {error}"),
            FileDisposition::NotReached => "not reached".to_owned(),
        };
        format!("{}: {disposition}", name.display())
    };
    batch.files.iter().map(disposition).collect()
}
