//! How outputs that are complete wait for the commit.

use crate::output::Stage;

/// How finished outputs are kept until they take their places.
#[derive(Clone, Copy)]
pub(super) struct Keep<'a> {
    /// They are to be on the disk.
    pub(super) sync: bool,
    /// Their digests are wanted.
    pub(super) digest: bool,
    pub(super) stage: &'a Stage,
}
