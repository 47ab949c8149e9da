//! The names of a source that templates use.

/// What is known of the source whose records are being read.
#[derive(Clone, Debug, Default)]
pub(crate) struct SourceNames {
    pub(crate) stem: String,
    pub(crate) extension: String,
    pub(crate) folder: String,
    pub(crate) sheet: String,
}
