//! From what is named, files, folders and patterns such as `parts/**/*.csv`, to the files.

use std::collections::HashMap;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::{fmt, fs, io};

use glob::{MatchOptions, Pattern};
use serde::{Deserialize, Serialize};

use super::archive::{self, members};
use super::natural::Natural;
use super::{Identity, ReadError, SourcePath, plain};

/// How patterns are held against paths: `*` and `?` stay within a name, `**` does not.
const MATCHING: MatchOptions = MatchOptions {
    case_sensitive: true,
    require_literal_separator: true,
    require_literal_leading_dot: false,
};

/// Names that are no files.
#[derive(Debug, thiserror::Error)]
pub enum SelectError {
    /// It is no pattern.
    #[error("'{pattern}' is not a pattern: {reason}")]
    Pattern {
        /// As it was written.
        pattern: String,
        /// What is wrong.
        reason: String,
    },
    /// Nothing fits it.
    #[error("no file matches '{0}'")]
    NoFile(String),
    /// The folder holds nothing that is wanted.
    #[error("{} has no file of a known format{}", .folder.display(), if *.deeper { ", and subfolders are not included" } else { "" })]
    EmptyFolder {
        /// The folder.
        folder: PathBuf,
        /// It holds folders, in which no one looked.
        deeper: bool,
    },
    /// A folder cannot be looked into.
    #[error("looking into {}: {cause}", .folder.display())]
    Folder {
        /// The folder.
        folder: PathBuf,
        /// What the system says.
        cause: io::Error,
    },
    /// An archive cannot be looked into.
    #[error(transparent)]
    Archive(#[from] Box<ReadError>),
}

/// A pattern for names of files or for their paths below a folder.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct FilePattern(Pattern);

impl std::str::FromStr for FilePattern {
    type Err = SelectError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Pattern::new(text)
            .map(Self)
            .map_err(|error| SelectError::Pattern {
                pattern: text.to_owned(),
                reason: error.msg.to_owned(),
            })
    }
}

impl TryFrom<String> for FilePattern {
    type Error = SelectError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<FilePattern> for String {
    fn from(pattern: FilePattern) -> Self {
        pattern.0.as_str().to_owned()
    }
}

impl fmt::Display for FilePattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.as_str().fmt(f)
    }
}

impl FilePattern {
    /// Whether it fits a path below the folder that was named: the name alone if the pattern has no
    /// `/`.
    pub fn fits(&self, below: &Path) -> bool {
        let whole = self.0.as_str().contains('/');
        let text = match below.file_name().filter(|_| !whole) {
            Some(name) => name.to_string_lossy(),
            None => below.to_string_lossy(),
        };
        self.0.matches_with(&text, MATCHING)
    }
}

/// Which files of folders are wanted.
#[derive(Clone, Debug, Default)]
pub struct Selection<'a> {
    /// Look into the folders of folders, too.
    pub recursive: bool,
    /// Only files that fit one of these, if there are any.
    pub pick: &'a [FilePattern],
    /// No files and no folders that fit one of these.
    pub skip: &'a [FilePattern],
    /// Extensions of files that are wanted of folders where nothing is picked; all, if there is
    /// none.
    pub extensions: &'a [&'a str],
    /// A folder that is not looked into unless it is named itself: that of the outputs.
    pub out: Option<&'a Path>,
}

/// A file that was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The file.
    pub path: SourcePath,
    /// Its folder, below the one that was named.
    pub below: PathBuf,
}

/// What was found.
#[derive(Debug, Default)]
pub struct Selected {
    /// The files, in the order in which they were named, those of a folder or pattern in the
    /// natural order of their names.
    pub files: Vec<Found>,
    /// Folders and archives that could not be looked into.
    pub closed: Vec<(PathBuf, SelectError)>,
    /// Any of the names was a folder or a pattern.
    pub searched: bool,
}

/// The files that `names` represent. A name is a file if there is such a file, or if it is no
/// folder and no pattern; of a folder, the files in it are taken. An archive is a folder, and the files
/// in all of its folders are taken. Names that begin with a dot are
/// left out, unless they are named. A file that is found twice is taken once; one that is named
/// twice is there twice.
///
/// # Errors
///
/// [`SelectError`] if a pattern or folder has no file, or a folder that was named cannot be looked
/// into.
pub fn select(names: &[SourcePath], selection: &Selection<'_>) -> Result<Selected, SelectError> {
    let mut selected = Selected::default();
    // Files that are known, and whether they were named themselves.
    let mut known: HashMap<PathBuf, bool> = HashMap::new();
    for name in names {
        let path = match name {
            SourcePath::File(path) if !path.is_file() || is_archive(path, selection) => path,
            single => {
                if let SourcePath::File(path) = single
                    && known.insert(plain(path), true) == Some(false)
                {
                    continue;
                }
                selected.files.push(Found {
                    path: single.clone(),
                    below: PathBuf::new(),
                });
                continue;
            }
        };
        let text = path.to_string_lossy();
        let archive = path.ancestors().find(|above| above.is_file());
        let mut search = if path.is_dir() {
            Search::folder(path, selection)
        } else if let Some(archive) = archive {
            Search::archive(archive, path)?
        } else if text.contains(['*', '?', '[']) && !path.exists() {
            Search::pattern(path, selection)?
        } else {
            // It is not there, or is a pipe; opening it will tell.
            selected.files.push(Found {
                path: name.clone(),
                below: PathBuf::new(),
            });
            continue;
        };
        selected.searched = true;
        search.walk(selection)?;
        if search.files.is_empty() && search.closed.is_empty() {
            return Err(match search.pattern {
                Some(_) => SelectError::NoFile(text.into_owned()),
                None => SelectError::EmptyFolder {
                    folder: path.clone(),
                    deeper: search.deeper,
                },
            });
        }
        selected.closed.append(&mut search.closed);
        let mut files = search.files;
        files.sort_by_cached_key(|file| Natural::new(&PathBuf::from(file.path.clone())));
        for file in files {
            let name = plain(&PathBuf::from(file.path.clone()));
            if known.contains_key(&name) {
                continue;
            }
            known.insert(name, false);
            selected.files.push(file);
        }
    }
    Ok(selected)
}

/// Whether a file that was named may be an archive: it is called one, or is called nothing that is
/// read and begins like one.
fn is_archive(path: &Path, selection: &Selection<'_>) -> bool {
    let extension = SourcePath::File(path.to_owned()).extension();
    // A spreadsheet of an early version is a package, too, and named for what it is when it is read.
    if selection.extensions.contains(&extension.as_str()) || extension == "sxc" {
        return false;
    }
    matches!(members(path), Err(_) | Ok(Some(_)))
}

/// The folders of a path below a root.
fn folders(path: &Path) -> PathBuf {
    path.parent().unwrap_or(Path::new("")).to_owned()
}

/// A walk through a folder.
struct Search {
    /// Where it begins.
    root: PathBuf,
    /// What paths below the root are held against.
    pattern: Option<Pattern>,
    /// Folders that may lie between the root and a file.
    depth: usize,
    files: Vec<Found>,
    closed: Vec<(PathBuf, SelectError)>,
    /// There are folders that were too deep to be looked into.
    deeper: bool,
}

impl Search {
    fn folder(path: &Path, selection: &Selection<'_>) -> Self {
        Self {
            root: path.to_owned(),
            pattern: None,
            depth: if selection.recursive { usize::MAX } else { 0 },
            files: Vec::new(),
            closed: Vec::new(),
            deeper: false,
        }
    }

    /// The files in an archive that fit what `path` says after it, or all.
    fn archive(archive: &Path, path: &Path) -> Result<Self, SelectError> {
        let inside = path.strip_prefix(archive).unwrap_or(Path::new(""));
        let text = inside.to_string_lossy();
        let pattern = if inside.as_os_str().is_empty() {
            None
        } else {
            Some(Self::parse(&text, path)?)
        };
        Ok(Self {
            root: archive.to_owned(),
            pattern,
            depth: 0,
            files: Vec::new(),
            closed: Vec::new(),
            deeper: false,
        })
    }

    fn parse(text: &str, path: &Path) -> Result<Pattern, SelectError> {
        Pattern::new(text).map_err(|error| SelectError::Pattern {
            pattern: path.display().to_string(),
            reason: error.msg.to_owned(),
        })
    }

    fn pattern(path: &Path, selection: &Selection<'_>) -> Result<Self, SelectError> {
        let is_plain = |component: &Component<'_>| {
            let name = component.as_os_str().to_string_lossy();
            !name.contains(['*', '?', '['])
        };
        let root: PathBuf = path.components().take_while(is_plain).collect();
        let rest: PathBuf = path.components().skip_while(is_plain).collect();
        let text = rest.to_string_lossy().replace('\\', "/");
        let pattern = Self::parse(&text, path)?;
        let any = text.contains("**") || selection.recursive;
        Ok(Self {
            depth: if any {
                usize::MAX
            } else {
                text.matches('/').count()
            },
            pattern: Some(pattern),
            ..Self::folder(&root, selection)
        })
    }

    fn walk(&mut self, selection: &Selection<'_>) -> Result<(), SelectError> {
        if self.root.is_file() {
            let archive = self.root.clone();
            // What is none holds nothing that fits.
            self.look_into(&archive, Path::new(""), selection)?;
            return Ok(());
        }
        let here = if self.root.as_os_str().is_empty() {
            PathBuf::from(".")
        } else {
            self.root.clone()
        };
        let out = selection.out.and_then(Identity::of);
        let mut open = vec![(here.clone(), self.root.clone(), 0, Vec::new())];
        while let Some((folder, shown, depth, above)) = open.pop() {
            let identity = Identity::of(&folder);
            if depth > 0 && identity.is_some() && identity == out {
                continue;
            }
            // A link that leads back would never end.
            if identity.as_ref().is_some_and(|it| above.contains(it)) {
                continue;
            }
            let entries = match fs::read_dir(&folder) {
                Ok(entries) => entries,
                Err(cause) if depth == 0 && self.pattern.is_none() => {
                    return Err(SelectError::Folder { folder, cause });
                }
                Err(cause) if cause.kind() == io::ErrorKind::NotFound => continue,
                Err(cause) => {
                    let error = SelectError::Folder {
                        folder: folder.clone(),
                        cause,
                    };
                    self.closed.push((folder, error));
                    continue;
                }
            };
            for entry in entries {
                let entry = match entry {
                    Ok(entry) => entry,
                    Err(cause) => {
                        let error = SelectError::Folder {
                            folder: folder.clone(),
                            cause,
                        };
                        self.closed.push((folder.clone(), error));
                        break;
                    }
                };
                let name = entry.file_name();
                if name.to_string_lossy().starts_with('.') {
                    continue;
                }
                let path = shown.join(&name);
                let below = path.strip_prefix(&self.root).unwrap_or(&path);
                if selection.skip.iter().any(|skip| skip.fits(below)) {
                    continue;
                }
                // Links count for what they lead to; opening one that leads nowhere tells.
                let (folder_there, file_there) = match entry.file_type() {
                    Ok(kind) if kind.is_symlink() => match fs::metadata(entry.path()) {
                        Ok(found) => (found.is_dir(), found.is_file()),
                        Err(_) => (false, true),
                    },
                    Ok(kind) => (kind.is_dir(), kind.is_file()),
                    Err(_) => (false, true),
                };
                if folder_there {
                    if depth < self.depth {
                        let mut above = above.clone();
                        above.extend(identity.clone());
                        open.push((entry.path(), path, depth + 1, above));
                    } else {
                        self.deeper = true;
                    }
                } else if file_there && is_called_archive(&path) && self.may_hold(below) {
                    let inside = below.with_extension("");
                    match self.look_into(&path, &inside, selection) {
                        Ok(true) => {}
                        Ok(false) => self.take(below, &path, selection),
                        Err(error) => self.closed.push((path, error)),
                    }
                } else if file_there {
                    self.take(below, &path, selection);
                }
            }
        }
        Ok(())
    }

    /// Takes a file if it is wanted.
    fn take(&mut self, below: &Path, path: &Path, selection: &Selection<'_>) {
        let path = SourcePath::File(path.to_owned());
        let fits = match &self.pattern {
            Some(pattern) => pattern.matches_path_with(below, MATCHING),
            None => wants(&path, selection),
        };
        if fits && picks(below, selection) {
            self.files.push(Found {
                path,
                below: folders(below),
            });
        }
    }

    /// Whether an archive that was found is looked into: any in a folder, and those that a pattern
    /// fits.
    fn may_hold(&self, below: &Path) -> bool {
        let pattern = self.pattern.as_ref();
        pattern.is_none_or(|pattern| pattern.matches_path_with(below, MATCHING))
    }

    /// Takes the files in an archive that are wanted, as if `below` were their folder; `false` if it
    /// is none.
    fn look_into(
        &mut self,
        archive: &Path,
        below: &Path,
        selection: &Selection<'_>,
    ) -> Result<bool, SelectError> {
        let Some(members) = members(archive).map_err(Box::new)? else {
            return Ok(false);
        };
        // A pattern that has led to the archive is not for what is in it.
        let pattern = self.pattern.as_ref().filter(|_| archive == self.root);
        for member in members {
            let inside = below.join(&member.name);
            let skipped = inside.ancestors().any(|above| {
                let named = !above.as_os_str().is_empty();
                named && selection.skip.iter().any(|skip| skip.fits(above))
            });
            let name = Path::new(&member.name).to_owned();
            let path = SourcePath::Member(Arc::new(member));
            let fits = match pattern {
                Some(pattern) => {
                    pattern.as_str() == name.to_string_lossy()
                        || pattern.matches_path_with(&name, MATCHING)
                }
                None => wants(&path, selection),
            };
            if fits && !skipped && picks(&inside, selection) {
                let below = folders(&inside);
                self.files.push(Found { path, below });
            }
        }
        Ok(true)
    }
}

/// Whether a file is called an archive.
fn is_called_archive(path: &Path) -> bool {
    path.extension()
        .is_some_and(|extension| extension.eq_ignore_ascii_case(archive::EXTENSION))
}

/// Whether a file that is not picked is taken, by its extension.
fn wants(path: &SourcePath, selection: &Selection<'_>) -> bool {
    let all = !selection.pick.is_empty() || selection.extensions.is_empty();
    all || selection.extensions.contains(&path.extension().as_str())
}

/// Whether a file is one of those that are picked, if any are.
fn picks(below: &Path, selection: &Selection<'_>) -> bool {
    selection.pick.is_empty() || selection.pick.iter().any(|pick| pick.fits(below))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The files that `names` represent below a folder that holds these, as paths below it.
    struct Sample(tempfile::TempDir);

    impl Sample {
        fn new() -> Self {
            let folder = tempfile::tempdir().expect("a folder");
            for name in [
                "a.csv",
                "part-10.csv",
                "part-2.csv",
                "notes.md",
                "b/c.csv",
                "b/d.txt.gz",
                "b/.f.csv",
                "out/e.csv",
            ] {
                let path = folder.path().join("x[1]").join(name);
                fs::create_dir_all(path.parent().expect("a parent")).expect("made");
                fs::write(path, "").expect("written");
            }
            Self(folder)
        }

        fn root(&self) -> PathBuf {
            self.0.path().join("x[1]")
        }

        fn select(&self, names: &[&str], selection: &Selection<'_>) -> Result<Vec<String>, String> {
            let names: Vec<SourcePath> = names
                .iter()
                .map(|name| SourcePath::File(self.root().join(name)))
                .collect();
            let selected = select(&names, selection).map_err(|error| error.to_string())?;
            let files = selected.files.iter().map(|found| {
                let path = found.path.to_string();
                let prefix = format!("{}/", self.root().display());
                path.replace(&prefix, "")
            });
            Ok(files.collect())
        }
    }

    const EXTENSIONS: Selection<'_> = Selection {
        recursive: false,
        pick: &[],
        skip: &[],
        extensions: &["csv", "txt"],
        out: None,
    };

    #[test]
    fn folders_give_what_is_read_in_natural_order() {
        let sample = Sample::new();
        let flat = sample.select(&[""], &EXTENSIONS).expect("files");
        assert_eq!(flat, ["a.csv", "part-2.csv", "part-10.csv"]);
        let out = sample.root().join("out");
        let deep = Selection {
            recursive: true,
            out: Some(&out),
            ..EXTENSIONS
        };
        let below = sample.select(&[""], &deep).expect("files");
        assert_eq!(
            below,
            [
                "a.csv",
                "b/c.csv",
                "b/d.txt.gz",
                "part-2.csv",
                "part-10.csv"
            ]
        );
        let named = sample.select(&["out", "out/e.csv"], &deep).expect("files");
        assert_eq!(named, ["out/e.csv"], "what is named is wanted, and once");
        let pick = ["*.md".parse().expect("a pattern")];
        let picked = Selection {
            pick: &pick,
            ..EXTENSIONS
        };
        assert_eq!(
            sample.select(&[""], &picked),
            Ok(vec!["notes.md".to_owned()])
        );
        let skip = [
            "part-*".parse().expect("a pattern"),
            "b/**".parse().expect("a pattern"),
        ];
        let skipped = Selection {
            skip: &skip,
            ..deep
        };
        assert_eq!(sample.select(&[""], &skipped), Ok(vec!["a.csv".to_owned()]));
    }

    #[test]
    fn patterns_stay_within_names_but_for_two_stars() {
        let folder = tempfile::tempdir().expect("a folder");
        for name in ["a.csv", "b/c.csv", "b/g/d.csv"] {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().expect("a parent")).expect("made");
            fs::write(path, "").expect("written");
        }
        let named = |pattern: &str| {
            let name = SourcePath::File(folder.path().join(pattern));
            let found = select(&[name], &EXTENSIONS).map_err(|error| error.to_string())?;
            let files = found.files.iter();
            let shown = files.map(|found| {
                let path = PathBuf::from(found.path.clone());
                let below = path.strip_prefix(folder.path()).expect("below");
                (
                    below.display().to_string(),
                    found.below.display().to_string(),
                )
            });
            Ok::<_, String>(shown.collect::<Vec<_>>())
        };
        let pair = |path: &str, below: &str| (path.to_owned(), below.to_owned());
        assert_eq!(named("*.csv"), Ok(vec![pair("a.csv", "")]));
        assert_eq!(named("*/*.csv"), Ok(vec![pair("b/c.csv", "b")]));
        assert_eq!(
            named("**/*.csv"),
            Ok(vec![
                pair("a.csv", ""),
                pair("b/c.csv", "b"),
                pair("b/g/d.csv", "b/g")
            ])
        );
        assert_eq!(named("b/**/d.csv"), Ok(vec![pair("b/g/d.csv", "g")]));
        assert!(
            named("*.tsv")
                .expect_err("none")
                .contains("no file matches")
        );
        assert!(named("a***b").expect_err("none").contains("not a pattern"));
        assert_eq!(named("nil.csv"), Ok(vec![pair("nil.csv", "")]));
    }

    #[cfg(unix)]
    #[test]
    fn links_that_lead_back_are_not_followed() {
        let sample = Sample::new();
        std::os::unix::fs::symlink(sample.root(), sample.root().join("b/loop")).expect("linked");
        std::os::unix::fs::symlink(sample.root().join("nil"), sample.root().join("gone.csv"))
            .expect("linked");
        let deep = Selection {
            recursive: true,
            ..EXTENSIONS
        };
        let below = sample.select(&["b"], &deep).expect("files");
        assert!(below.contains(&"b/c.csv".to_owned()), "{below:?}");
        assert!(below.len() < 10, "{below:?}");
        let all = sample.select(&[""], &deep).expect("files");
        assert!(all.contains(&"gone.csv".to_owned()), "opening it tells");
        let empty = sample.root().join("empty/deeper");
        fs::create_dir_all(empty).expect("made");
        let nothing = sample.select(&["empty"], &EXTENSIONS).expect_err("nothing");
        assert!(nothing.contains("subfolders are not included"), "{nothing}");
    }
}
