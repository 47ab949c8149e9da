//! Files that outputs must not replace: sources, and files next to the outputs.

use std::collections::HashMap;
use std::fs;
use std::path::Path;

use super::Refusal;
use crate::output::ExistingPolicy;
use numerant_data::source::{Identity, SourcePath};

/// Refuses a file next to the outputs, such as a ledger, that is a source or exists and is to stay.
pub(crate) fn check_beside(
    path: &Path,
    protected: &HashMap<Identity, SourcePath>,
    existing: ExistingPolicy,
) -> Result<(), Refusal> {
    if let Some(source) = Identity::of(path).and_then(|found| protected.get(&found)) {
        return Err(Refusal::Source {
            path: path.to_owned(),
            source_name: source.to_string(),
        });
    }
    let gives_way = !matches!(existing, ExistingPolicy::Refuse | ExistingPolicy::Skip);
    if !gives_way && fs::symlink_metadata(path).is_ok() {
        return Err(Refusal::FileExists {
            path: path.to_owned(),
        });
    }
    Ok(())
}

/// Whether two paths name one file that need not exist yet.
pub(super) fn same_path(one: &Path, other: &Path) -> bool {
    let absolute = |path: &Path| {
        let folder = path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty());
        let folder = folder.unwrap_or(Path::new("."));
        let folder = folder
            .canonicalize()
            .or_else(|_| std::path::absolute(folder));
        folder
            .map(|folder| folder.join(path.file_name().unwrap_or_default()))
            .ok()
    };
    one.file_name() == other.file_name() && absolute(one) == absolute(other)
}
