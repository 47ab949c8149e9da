//! Files of earlier runs in the folder of a run: those that a kept ledger names are the run's own, and
//! others are only reported.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use super::verify::{folder_of_outputs, read_ledger};
use super::{Error, Notice};
use crate::job::Job;
use crate::ledger::{FileDigest, OutputEntry};
use crate::output::ExistingPolicy;
use numerant_data::source::{Identity, ReadProblem, SourcePath, plain};
use numerant_steps::Step;

/// Files that a note names.
const NAMED: usize = 3;

/// Entries of folders that are looked at for files of other runs.
const MAX_ENTRIES: usize = 100_000;

/// What the ledger of the run before says of the folder of this one.
#[derive(Debug, Default)]
pub(super) struct Earlier {
    outputs: Vec<OutputEntry>,
}

impl Earlier {
    /// The outputs of the run before, if its ledger is at the path of this one's and says that they are
    /// in `out`; none for runs that do not clear.
    pub(super) fn read(job: &Job, out: &Path) -> Result<Self, Error> {
        let path = match (&job.ledger, job.existing) {
            (Some(path), ExistingPolicy::Clear) if path.exists() => path,
            _ => return Ok(Self::default()),
        };
        let ledger = read_ledger(path)?;
        let same =
            folder_of_outputs(path, None, &ledger).is_ok_and(|its| plain(&its) == plain(out));
        Ok(Self {
            outputs: if same { ledger.outputs } else { Vec::new() },
        })
    }

    /// The paths of its outputs, below the folder.
    pub(super) fn paths(&self) -> HashSet<String> {
        let outputs = self.outputs.iter();
        outputs.map(|output| output.path.clone()).collect()
    }

    /// Its outputs that are still there and are none of `written`: those that are as that run wrote them,
    /// and those that were changed since.
    pub(super) fn left(
        &self,
        out: &Path,
        written: &HashSet<&str>,
    ) -> Result<(Vec<String>, Vec<String>), Error> {
        let (mut unchanged, mut changed) = (Vec::new(), Vec::new());
        let mut seen = HashSet::new();
        for output in &self.outputs {
            let path = output.path.as_str();
            let is_plain = !path.starts_with('/') && path.split('/').all(|part| part != "..");
            if written.contains(path) || !is_plain || !seen.insert(path) {
                continue;
            }
            let full = out.join(path);
            if !full.is_file() {
                continue;
            }
            let digest = digest(&full).map_err(|cause| {
                let source = SourcePath::File(full.clone());
                source.error(ReadProblem::Io(cause))
            })?;
            if output.blake3.as_ref() == Some(&digest) {
                unchanged.push(path.to_owned());
            } else {
                changed.push(path.to_owned());
            }
        }
        Ok((unchanged, changed))
    }
}

fn digest(path: &Path) -> io::Result<String> {
    let mut file = File::open(path)?;
    let mut digest = FileDigest::default();
    let mut buffer = vec![0; 1 << 17];
    loop {
        match file.read(&mut buffer) {
            Ok(0) => return Ok(digest.finish()),
            Ok(read) => digest.update(&buffer[..read]),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
}

/// Reports files in the folder of a split that look like outputs and are none of this run. `written` are
/// the outputs of the run, and what it takes away.
pub(super) fn others(
    job: &Job,
    out: &Path,
    extension: &str,
    written: &HashSet<&str>,
) -> Option<Notice> {
    let splits = !job.by.is_empty()
        || !job.case.is_empty()
        || job.rows.is_some()
        || job.parts.is_some()
        || job.max_size.is_some()
        || job.each
        || job
            .name
            .as_ref()
            .is_some_and(|name| !name.keys().is_empty());
    if !splits || job.batch || job.pack.is_some() || extension.is_empty() {
        return None;
    }
    let lookups = job.steps.iter().filter_map(|step| match step {
        Step::Lookup(lookup) => Some(&lookup.file),
        _ => None,
    });
    let sources = job.sources.iter().filter_map(SourcePath::on_disk);
    let beside = [&job.ledger, &job.rejects, &job.write.shape];
    let read = sources.chain(lookups.map(PathBuf::as_path));
    let read = read.chain(beside.into_iter().flatten().map(PathBuf::as_path));
    let own: HashSet<Identity> = read.filter_map(Identity::of).collect();
    let mut found = (0, Vec::new());
    let mut folders = vec![(out.to_owned(), String::new())];
    let mut entries = 0;
    while let Some((folder, prefix)) = folders.pop() {
        let Ok(listed) = fs::read_dir(&folder) else {
            continue;
        };
        let mut listed: Vec<_> = listed.flatten().collect();
        listed.sort_by_key(fs::DirEntry::file_name);
        for entry in listed {
            entries += 1;
            let name = entry.file_name().to_string_lossy().into_owned();
            if name.starts_with('.') || entries > MAX_ENTRIES {
                continue;
            }
            let path = format!("{prefix}{name}");
            match entry.file_type() {
                Ok(kind) if kind.is_dir() => folders.push((entry.path(), format!("{path}/"))),
                Ok(kind) if kind.is_file() => {
                    let source = SourcePath::File(entry.path());
                    let is_own = || Identity::of(&entry.path()).is_some_and(|id| own.contains(&id));
                    if source.extension() == extension && !written.contains(&path[..]) && !is_own()
                    {
                        found.0 += 1;
                        if found.1.len() < NAMED {
                            found.1.push(path);
                        }
                    }
                }
                _ => {}
            }
        }
    }
    (found.0 > 0).then(|| Notice::OthersInFolder {
        folder: out.display().to_string(),
        files: found.0,
        examples: found.1,
    })
}
