//! Progress on standard error while long work runs: bytes, rate, time left.

use std::fmt::Write;
use std::io::IsTerminal;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use indicatif::{HumanDuration, ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use numerant_engine::Observer;

use super::table::visible;

/// Work that is done sooner than this shows no progress.
const PATIENCE: Duration = Duration::from_millis(500);

/// A line of progress, on a terminal only.
#[derive(Debug)]
pub(crate) struct Progress {
    wanted: bool,
    state: Mutex<State>,
}

#[derive(Debug)]
struct State {
    begun: Instant,
    total: Option<u64>,
    bar: Option<ProgressBar>,
    /// The bar is that of workbooks being written.
    writes: bool,
    /// Files of a batch, if it is one.
    files: Option<Files>,
    /// Bytes that were read, where they are reported piece by piece.
    read: u64,
}

/// How far a batch is.
#[derive(Debug, Default)]
struct Files {
    all: u64,
    done: u64,
    failed: u64,
    present: String,
}

impl Files {
    fn shown(&self) -> String {
        let failed = match self.failed {
            0 => String::new(),
            failed => format!(", {failed} failed"),
        };
        format!(
            "{} of {} files{failed}  {}",
            self.done,
            self.all,
            visible(&self.present)
        )
    }
}

/// The time that is left if the rest takes as long as what is done; nothing before anything is.
fn time_left(elapsed: Duration, done: u64, all: u64) -> Option<Duration> {
    let rest = all.checked_sub(done)?;
    let share = (done > 0).then(|| rest as f64 / done as f64)?;
    Duration::try_from_secs_f64(elapsed.as_secs_f64() * share).ok()
}

/// A style that knows `{time_left}`.
fn with_time_left(style: ProgressStyle) -> ProgressStyle {
    let write = |state: &ProgressState, out: &mut dyn Write| {
        let all = state.len().unwrap_or(0);
        if let Some(left) = time_left(state.elapsed(), state.pos(), all) {
            // A progress line that cannot be written is not worth an error.
            let _ = write!(out, "{} left", HumanDuration(left));
        }
    };
    style.with_key("time_left", write)
}

impl Progress {
    pub(crate) fn new(quiet: bool) -> Self {
        let wanted = !quiet && std::io::stderr().is_terminal();
        Self {
            wanted,
            state: Mutex::new(State {
                begun: Instant::now(),
                total: None,
                bar: None,
                writes: false,
                files: None,
                read: 0,
            }),
        }
    }

    /// Takes the line away.
    pub(crate) fn clear(&self) {
        if let Ok(mut state) = self.state.lock()
            && let Some(bar) = state.bar.take()
        {
            bar.finish_and_clear();
        }
    }
}

impl Observer for Progress {
    fn begins(&self, bytes: Option<u64>) {
        if let Ok(mut state) = self.state.lock() {
            state.total = bytes;
        }
    }

    fn has_read(&self, bytes: u64) {
        if !self.wanted {
            return;
        }
        let Ok(mut state) = self.state.lock() else {
            return;
        };
        if state.bar.is_none() {
            if state.begun.elapsed() < PATIENCE {
                return;
            }
            let target = ProgressDrawTarget::stderr();
            let (bar, template) = match state.total {
                Some(total) => (
                    ProgressBar::with_draw_target(Some(total), target),
                    "{bar:30} {percent:>3} %  {decimal_bytes} of {decimal_total_bytes}  \
                     {decimal_bytes_per_sec}  {time_left}  {wide_msg}",
                ),
                None => (
                    ProgressBar::with_draw_target(None, target),
                    "{spinner} {decimal_bytes} read  {decimal_bytes_per_sec}",
                ),
            };
            // The template is fixed; if it were wrong, the default one would do.
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(with_time_left(style).progress_chars("█▌░"));
            }
            state.bar = Some(bar.with_elapsed(state.begun.elapsed()));
        }
        if let Some(bar) = &state.bar {
            bar.set_position(bytes);
            if let Some(files) = &state.files {
                bar.set_message(files.shown());
            }
        }
    }

    fn has_read_more(&self, bytes: u64) {
        if !self.wanted {
            return;
        }
        let all = match self.state.lock() {
            Ok(mut state) => {
                state.read += bytes;
                state.read
            }
            Err(_) => return,
        };
        self.has_read(all);
    }

    fn begins_files(&self, files: u64) {
        if let Ok(mut state) = self.state.lock() {
            state.files = Some(Files {
                all: files,
                ..Files::default()
            });
        }
    }

    fn file_begins(&self, name: &str) {
        if self.wanted
            && let Ok(mut state) = self.state.lock()
            && let Some(files) = &mut state.files
        {
            name.clone_into(&mut files.present);
        }
    }

    fn file_done(&self, failed: bool) {
        if let Ok(mut state) = self.state.lock()
            && let Some(files) = &mut state.files
        {
            files.done += 1;
            files.failed += u64::from(failed);
        }
    }

    fn has_written(&self, records: u64, of: u64) {
        if !self.wanted {
            return;
        }
        let Ok(mut state) = self.state.lock() else {
            return;
        };
        if !state.writes {
            if state.begun.elapsed() < PATIENCE {
                return;
            }
            if let Some(bar) = state.bar.take() {
                bar.finish_and_clear();
            }
            let bar = ProgressBar::with_draw_target(Some(of), ProgressDrawTarget::stderr());
            let template = "{bar:30} {percent:>3} %  {human_pos} of {human_len} records written  \
                            {time_left}";
            // The template is fixed; if it were wrong, the default one would do.
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(with_time_left(style).progress_chars("█▌░"));
            }
            state.bar = Some(bar);
            state.writes = true;
        }
        if let Some(bar) = &state.bar {
            bar.set_position(records);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_time_that_is_left_is_known_from_what_is_done() {
        let second = Duration::from_secs(1);
        assert_eq!(time_left(second, 0, 100), None);
        assert_eq!(time_left(second, 25, 100), Some(Duration::from_secs(3)));
        assert_eq!(time_left(second, 100, 100), Some(Duration::ZERO));
        assert_eq!(time_left(second, 101, 100), None);
    }
}
