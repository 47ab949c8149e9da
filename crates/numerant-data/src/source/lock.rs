//! Files that spreadsheet programs keep next to a workbook as long as it is open in one of them.

use std::path::Path;

use super::SourcePath;

/// What the names of such files begin with, before that of the workbook.
const PREFIX: &str = "~$";

/// Whether a file is one that a program keeps next to an open workbook.
pub fn is_lock(path: &SourcePath) -> bool {
    matches!(path, SourcePath::File(_)) && path.file_name().starts_with(PREFIX)
}

/// Whether a workbook is open in a program, so that what is not saved there is not in the file.
pub fn is_open_elsewhere(path: &SourcePath) -> bool {
    let SourcePath::File(file) = path else {
        return false;
    };
    let folder = file.parent().unwrap_or(Path::new(""));
    let name = path.file_name();
    let locks = [format!("{PREFIX}{name}"), format!(".~lock.{name}#")];
    locks.iter().any(|lock| folder.join(lock).is_file())
}
