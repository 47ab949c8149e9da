//! A file system whose calls fail, whose process is killed, or whose power goes.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::{fs, io};

use numerant_data::disk::{Call, Faults};

/// What happens at the calls that are chosen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Fault {
    /// Nothing: calls are counted.
    None,
    /// The calls with these numbers fail with this error.
    Fail([usize; 2], i32),
    /// From this call on nothing is done any more.
    Kill(usize),
}

/// Decides on calls, and remembers what it takes to undo those that are not on the device.
pub(crate) struct Injector {
    fault: Fault,
    count: AtomicUsize,
    /// A call has failed.
    hit: AtomicUsize,
    state: Mutex<State>,
    /// Old contents, for as long as a cut of the power can bring them back.
    side: tempfile::TempDir,
}

#[derive(Default)]
struct State {
    /// What was done to names and is not on the device: how it is undone, and the folder that decides.
    names: Vec<(PathBuf, Vec<Undo>)>,
    /// Files with data that is not on the device.
    dirty: HashSet<PathBuf>,
}

enum Undo {
    RemoveFile(PathBuf),
    RemoveFolder(PathBuf),
    MakeFolder(PathBuf),
    /// What was at the first path is back at the second.
    Back(PathBuf, PathBuf),
    /// A kept second name is put in place.
    Restore(PathBuf, PathBuf),
}

impl Injector {
    pub(crate) fn new(fault: Fault) -> Self {
        Self {
            fault,
            count: AtomicUsize::new(0),
            hit: AtomicUsize::new(0),
            state: Mutex::default(),
            side: tempfile::tempdir_in("/dev/shm")
                .or_else(|_| tempfile::tempdir())
                .expect("a folder"),
        }
    }

    pub(crate) fn count(&self) -> usize {
        self.count.load(Ordering::SeqCst)
    }

    pub(crate) fn was_hit(&self) -> bool {
        self.hit.load(Ordering::SeqCst) > 0
    }

    /// How many changes of names are not on the device.
    pub(crate) fn unsynced(&self) -> usize {
        self.state.lock().expect("a lock").names.len()
    }

    /// The power goes: what was done to names is undone but for the first `kept` of what is not on the device, and
    /// files whose data is not there lose their second half.
    pub(crate) fn cut_power(&self, kept: usize) {
        let mut state = self.state.lock().expect("a lock");
        for path in &state.dirty {
            if let Ok(found) = fs::metadata(path) {
                let file = fs::File::options().write(true).open(path).expect("opened");
                file.set_len(found.len() / 2).expect("cut");
            }
        }
        let kept = kept.min(state.names.len());
        let lost = state.names.split_off(kept);
        let lost = lost.into_iter().rev().flat_map(|(_, undo)| undo);
        for undo in lost {
            // What is undone may be undone already, together with what it was in.
            let _ = match undo {
                Undo::RemoveFile(path) => fs::remove_file(path),
                Undo::RemoveFolder(path) => fs::remove_dir(path),
                Undo::MakeFolder(path) => fs::create_dir(path),
                Undo::Back(now, before) => fs::rename(now, before),
                Undo::Restore(kept, path) => fs::rename(kept, path),
            };
        }
    }

    /// Keeps what is at a path under a second name.
    fn keep(&self, path: &Path) -> Option<PathBuf> {
        let name = format!("{}", self.count());
        let kept = path.with_file_name(format!(".kept-{name}"));
        let kept = self.side.path().join(kept.file_name()?);
        fs::hard_link(path, &kept)
            .or_else(|_| fs::copy(path, &kept).map(drop))
            .ok()?;
        Some(kept)
    }

    fn remember(&self, call: Call<'_>) {
        let parent = |path: &Path| path.parent().unwrap_or(Path::new("")).to_owned();
        let undo = match call {
            Call::Create(path) => Some((path, vec![Undo::RemoveFile(path.to_owned())])),
            Call::MakeFolder(path) => Some((path, vec![Undo::RemoveFolder(path.to_owned())])),
            Call::RemoveFolder(path) => Some((path, vec![Undo::MakeFolder(path.to_owned())])),
            Call::Link(_, to) => Some((to, vec![Undo::RemoveFile(to.to_owned())])),
            Call::Remove(path) => {
                let kept = self.keep(path);
                kept.map(|kept| (path, vec![Undo::Restore(kept, path.to_owned())]))
            }
            Call::Rename(from, to) => {
                let old = to.is_file().then(|| self.keep(to)).flatten();
                let mut undo = vec![Undo::Back(to.to_owned(), from.to_owned())];
                undo.extend(old.map(|kept| Undo::Restore(kept, to.to_owned())));
                Some((to, undo))
            }
            Call::Write(..)
            | Call::Sync(_)
            | Call::SyncFolder(_)
            | Call::Close(_)
            | Call::SetMode(_) => None,
        };
        let undo = undo.map(|(path, undo)| (parent(path), undo));
        let mut state = self.state.lock().expect("a lock");
        match call {
            Call::Write(path, _) => {
                state.dirty.insert(path.to_owned());
            }
            Call::Sync(path) => {
                state.dirty.remove(path);
            }
            Call::SyncFolder(folder) => state.names.retain(|(parent, _)| parent != folder),
            Call::Rename(from, to) => {
                let moved: Vec<PathBuf> = state
                    .dirty
                    .iter()
                    .filter(|path| path.starts_with(from))
                    .cloned()
                    .collect();
                for path in moved {
                    state.dirty.remove(&path);
                    let below = path.strip_prefix(from).expect("below it").to_owned();
                    let now = if below.as_os_str().is_empty() {
                        to.to_owned()
                    } else {
                        to.join(below)
                    };
                    state.dirty.insert(now);
                }
            }
            _ => {}
        }
        state.names.extend(undo);
    }
}

impl Faults for Injector {
    fn before(&self, call: Call<'_>) -> io::Result<()> {
        let number = self.count.fetch_add(1, Ordering::SeqCst);
        let error = match self.fault {
            Fault::Fail(numbers, error) if numbers.contains(&number) => Some(error),
            // The process is gone: it makes no more calls, and none of those that clean up.
            Fault::Kill(at) if number >= at => Some(5),
            _ => None,
        };
        if let Some(error) = error {
            self.hit.fetch_add(1, Ordering::SeqCst);
            return Err(io::Error::from_raw_os_error(error));
        }
        self.remember(call);
        Ok(())
    }
}
