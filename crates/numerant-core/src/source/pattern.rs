//! Names of several files: patterns such as `parts/**/*.csv`, and folders.

use std::path::{Component, Path, PathBuf};

use super::SourcePath;

/// A pattern that names no files.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PatternError {
    /// It is no pattern.
    #[error("'{pattern}' is not a pattern: {reason}")]
    Pattern {
        /// As it was written.
        pattern: String,
        /// What is wrong.
        reason: String,
    },
    /// Nothing fits it.
    #[error("no file fits '{0}'")]
    NoFile(String),
}

/// The files that `text` names: itself if there is such a file, all files below it with one of
/// these extensions (and perhaps a compression's) if it is a folder, and else those that fit it as
/// a pattern, in which `*` is any part of a name and `**` any folders. Sorted by path.
///
/// # Errors
///
/// [`PatternError`] if there is none.
pub fn files(text: &str, extensions: &[&str]) -> Result<Vec<SourcePath>, PatternError> {
    let path = Path::new(text);
    if text == "-" || path.is_file() {
        return Ok(vec![SourcePath::from(path.to_owned())]);
    }
    let folder = path.is_dir();
    let pattern = if folder {
        format!("{}/**/*", glob::Pattern::escape(text.trim_end_matches('/')))
    } else {
        text.to_owned()
    };
    // What is named is wanted, even if it is hidden.
    let named = if folder {
        path.components().count()
    } else {
        let plain = |component: &Component<'_>| {
            let name = component.as_os_str().to_string_lossy();
            !name.contains(['*', '?', '['])
        };
        path.components().take_while(plain).count()
    };
    let found = glob::glob(&pattern).map_err(|error| PatternError::Pattern {
        pattern: text.to_owned(),
        reason: error.msg.to_owned(),
    })?;
    let mut files: Vec<PathBuf> = found
        .filter_map(Result::ok)
        .filter(|path| !path.is_dir())
        .filter(|path| !is_hidden(path, named))
        .collect();
    if folder {
        files.retain(|path| {
            let source = SourcePath::from(path.clone());
            extensions.contains(&source.extension().as_str())
        });
    }
    files.sort();
    if files.is_empty() {
        return Err(PatternError::NoFile(text.to_owned()));
    }
    Ok(files.into_iter().map(SourcePath::from).collect())
}

/// Whether a name in the path, behind those that were named, begins with a dot, as those of stages
/// do.
fn is_hidden(path: &Path, named: usize) -> bool {
    path.components().skip(named).any(|component| {
        let name = component.as_os_str().to_string_lossy();
        name.starts_with('.') && name.len() > 1 && name != ".."
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_and_folders_name_files() {
        let folder = tempfile::tempdir().expect("a folder");
        for name in ["a.csv", "b/c.csv", "b/d.txt.gz", "b/e.md", "b/.f.csv"] {
            let path = folder.path().join("x[1]").join(name);
            std::fs::create_dir_all(path.parent().expect("a parent")).expect("made");
            std::fs::write(path, "").expect("written");
        }
        let root = folder.path().join("x[1]");
        let named = |text: &str| {
            files(text, &["csv", "txt"]).map(|files| {
                files
                    .iter()
                    .map(|file| {
                        file.to_string()
                            .replace(&format!("{}/", root.display()), "")
                    })
                    .collect::<Vec<_>>()
            })
        };
        let shown = root.display().to_string();
        assert_eq!(
            named(&shown),
            Ok(vec!["a.csv".into(), "b/c.csv".into(), "b/d.txt.gz".into()])
        );
        let escaped = glob::Pattern::escape(&shown);
        assert_eq!(
            named(&format!("{escaped}/**/*.csv")),
            Ok(vec!["a.csv".into(), "b/c.csv".into()])
        );
        assert!(named(&format!("{escaped}/*.tsv")).is_err());
        assert!(named("a***b").is_err());
    }
}
