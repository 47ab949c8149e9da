//! What a run needs of the world around it: the clock, signals, limits.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use numerant_data::disk::Disk;
use numerant_engine::{Commits, Context, Observer};

/// Files that a process may have open where the system does not say.
const OPEN_FILES: usize = 256;

/// Signals that ask to end the run, and what they ask it through.
#[derive(Clone, Debug, Default)]
pub(crate) struct Interrupts {
    cancel: Arc<AtomicBool>,
    /// Whether a signal ends the process at once: while a question waits for its answer, and
    /// after a first signal.
    at_once: Arc<AtomicBool>,
    /// No signal ends the process while outputs take their places.
    commits: Arc<Commits>,
    /// Files that no output may replace, besides those that its job reads.
    own_files: Vec<PathBuf>,
}

impl Interrupts {
    /// Begins to listen. Where that cannot be had, signals end the process as they always do.
    pub(crate) fn listen() -> Self {
        let interrupts = Self::default();
        #[cfg(unix)]
        {
            use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};
            use signal_hook::iterator::Signals;
            // A file that grows beyond a limit is then an error of the write, not the end.
            if let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP, SIGXFSZ]) {
                let (cancel, at_once) = (&interrupts.cancel, &interrupts.at_once);
                let (cancel, at_once) = (Arc::clone(cancel), Arc::clone(at_once));
                let commits = Arc::clone(&interrupts.commits);
                let listen = move || {
                    for signal in signals.forever() {
                        if signal == SIGXFSZ {
                            continue;
                        }
                        if at_once.load(Ordering::SeqCst) {
                            commits.unless_under_way(|| std::process::exit(130));
                        }
                        cancel.store(true, Ordering::SeqCst);
                        at_once.store(true, Ordering::SeqCst);
                    }
                };
                // Without a thread they are not heard, as little as they are where signals cannot be had.
                let _ = std::thread::Builder::new()
                    .name("signals".to_owned())
                    .spawn(listen);
            }
        }
        interrupts
    }

    /// The same, with files that no output may replace.
    pub(crate) fn with_own_files(&self, files: Vec<PathBuf>) -> Self {
        Self {
            own_files: files,
            ..self.clone()
        }
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
            disk: Disk::default(),
            own_files: self.own_files.clone(),
            commits: Arc::clone(&self.commits),
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
