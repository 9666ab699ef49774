//! Names of files that are not whole yet, which go when the program is stopped.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, Once, PoisonError};

use rustix::fs::{FlockOperation, Mode, OFlags, flock};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

/// What they begin with; six letters or digits follow.
const PREFIX: &str = ".mivask-";

/// Entries of a folder among which those of a program that was killed are looked for.
const MOST_ENTRIES: usize = 10_000;

static NAMES: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());
static WATCH: Once = Once::new();

/// A name that is removed when it is dropped, or when a signal ends the program.
pub(super) struct Fleeting(PathBuf);

impl Fleeting {
    /// A name in `folder` that is most likely free.
    pub(super) fn new(folder: &Path) -> Self {
        WATCH.call_once(watch);
        let letters: String = std::iter::repeat_with(fastrand::alphanumeric).take(6).collect();
        let path = folder.join(format!("{PREFIX}{letters}"));
        NAMES.lock().unwrap_or_else(PoisonError::into_inner).insert(path.clone());
        Self(path)
    }

    pub(super) fn path(&self) -> &Path {
        &self.0
    }

    /// The file has another name now.
    pub(super) fn forget(self) {
        NAMES.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.0);
        std::mem::forget(self);
    }
}

impl Drop for Fleeting {
    fn drop(&mut self) {
        let mut names = NAMES.lock().unwrap_or_else(PoisonError::into_inner);
        let _ = fs::remove_file(&self.0);
        names.remove(&self.0);
    }
}

/// Removes the names when a signal comes that ends the program; one that is ignored, as under nohup(1), stays so.
fn watch() {
    let ignored = ignored_signals();
    let ends = [SIGINT, SIGTERM, SIGHUP].into_iter().filter(|signal| ignored & (1 << (signal - 1)) == 0);
    let Ok(mut signals) = signal_hook::iterator::Signals::new(ends) else { return };
    let waits = move || {
        for signal in signals.forever() {
            let names = NAMES.lock().unwrap_or_else(PoisonError::into_inner);
            names.iter().for_each(|name| drop(fs::remove_file(name)));
            // Ends the program as if there were no handler; the names stay locked until then.
            let _ = signal_hook::low_level::emulate_default_handler(signal);
        }
    };
    let _ = std::thread::Builder::new().name("signals".to_owned()).spawn(waits);
}

/// The mask of signals that are ignored (proc_pid_status(5), `SigIgn`).
fn ignored_signals() -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    line.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or_default()
}

/// Claims `file` for this program: as long as it is open, no other takes it for one that was left behind.
pub(super) fn claim(file: &File) {
    // A file system without locks has no one who could tell.
    let _ = flock(file, FlockOperation::NonBlockingLockExclusive);
}

/// Removes what a program left in `folder` that was killed: files of ours that are called so and that no program holds.
pub(super) fn sweep(folder: &Path) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    let me = rustix::process::geteuid().as_raw();
    for entry in entries.take(MOST_ENTRIES).flatten() {
        let name = entry.file_name();
        let letters = name.as_bytes().strip_prefix(PREFIX.as_bytes());
        if !letters.is_some_and(|rest| rest.len() == 6 && rest.iter().all(u8::is_ascii_alphanumeric)) {
            continue;
        }
        let mine = entry.metadata().is_ok_and(|facts| facts.is_file() && facts.uid() == me);
        if mine && is_left(&entry.path()) {
            log::info!("{} was left by a run that was killed: removed", entry.path().display());
            let _ = fs::remove_file(entry.path());
        }
    }
}

fn is_left(path: &Path) -> bool {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let Ok(file) = rustix::fs::open(path, flags, Mode::empty()) else { return false };
    flock(&file, FlockOperation::NonBlockingLockExclusive).is_ok()
}
