//! What a run needs of the world around it: the clock, signals, limits.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use numerant_core::engine::{Context, Observer};

/// Files that a process may have open where the system does not say.
const OPEN_FILES: usize = 256;

/// Signals that ask to end the run, and what they ask it through.
#[derive(Debug, Default)]
pub(crate) struct Interrupts {
    cancel: Arc<AtomicBool>,
    /// Whether a signal ends the process at once: while a question waits for its answer, and
    /// after a first signal.
    at_once: Arc<AtomicBool>,
}

impl Interrupts {
    /// Begins to listen. Where that cannot be had, signals end the process as they always do.
    pub(crate) fn listen() -> Self {
        let interrupts = Self::default();
        #[cfg(unix)]
        {
            use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};
            use signal_hook::flag;
            for signal in [SIGINT, SIGTERM, SIGHUP] {
                let _ = flag::register_conditional_shutdown(
                    signal,
                    130,
                    Arc::clone(&interrupts.at_once),
                );
                let _ = flag::register(signal, Arc::clone(&interrupts.cancel));
                let _ = flag::register(signal, Arc::clone(&interrupts.at_once));
            }
            // A file that grows beyond a limit is then an error of the write, not the end.
            let _ = flag::register(SIGXFSZ, Arc::new(AtomicBool::new(false)));
        }
        interrupts
    }

    /// Runs something that may wait for long and has nothing to clean up.
    pub(crate) fn at_once<T>(&self, wait: impl FnOnce() -> T) -> T {
        self.at_once.store(true, Ordering::Relaxed);
        let result = wait();
        self.at_once.store(false, Ordering::Relaxed);
        result
    }

    /// What a run needs of the world, with `observer` to hear how it gets on.
    pub(crate) fn context(&self, observer: Arc<dyn Observer>) -> Context {
        Context {
            now: jiff::Zoned::now().datetime(),
            cancel: Arc::clone(&self.cancel),
            observer,
            open_files: open_files(),
            temporary: std::env::temp_dir(),
            processors: std::thread::available_parallelism().map_or(1, std::num::NonZero::get),
        }
    }
}

/// Files that this process may have open.
fn open_files() -> usize {
    #[cfg(unix)]
    {
        let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile);
        limit.current.map_or(OPEN_FILES, |limit| {
            usize::try_from(limit).unwrap_or(OPEN_FILES)
        })
    }
    #[cfg(not(unix))]
    OPEN_FILES
}
