//! What the tests of the library share.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use numerant_core::engine::{Context, Unobserved};

/// A context with a fixed clock and few open files.
pub(crate) fn context() -> Context {
    Context {
        now: jiff::civil::date(2026, 3, 5).at(14, 20, 5, 0),
        cancel: Arc::new(AtomicBool::new(false)),
        observer: Arc::new(Unobserved),
        open_files: 30,
        processors: 2,
        temporary: std::env::temp_dir(),
    }
}
