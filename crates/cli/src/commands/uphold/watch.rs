//! Doing it again whenever a file changes that was read.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, SystemTime};

use notify::{Event, EventKind, RecursiveMode, Watcher};

use super::Args;
use super::error::UpholdError;
use crate::end::{End, Failure};

/// An editor writes a file in several steps: so long nothing more must happen before it is read.
const SETTLED: Duration = Duration::from_millis(60);

/// Runs until it is interrupted.
pub(super) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let (sender, events) = channel();
    // The receiver lives as long as this function, which never returns while events come.
    let mut watcher =
        notify::recommended_watcher(move |event| drop(sender.send(event))).map_err(UpholdError::from)?;
    let mut watched = BTreeSet::new();
    loop {
        let started = SystemTime::now();
        let files = match args.once(out, err) {
            Ok((_, files)) => files,
            Err(Failure::Output(error)) => return Err(Failure::Output(error)),
            // What cannot be used now may be mended with the next change.
            Err(failure) => {
                failure.report(err)?;
                args.inputs.iter().chain(&args.expect).cloned().collect()
            }
        };
        out.flush()?;
        let files: BTreeSet<PathBuf> =
            files.iter().chain(&args.inputs).filter_map(|file| whole(file)).collect();
        for folder in
            files.iter().flat_map(|file| file.parent().into_iter().chain(file.is_dir().then_some(&**file)))
        {
            if watched.insert(folder.to_path_buf()) {
                watcher.watch(folder, RecursiveMode::NonRecursive).map_err(UpholdError::from)?;
            }
        }
        writeln!(err, "watching {} files; Ctrl-C ends it", files.len())?;
        let changed = changed_since(&files, started).map_or_else(|| next(&events, &files), Some);
        let Some(changed) = changed else { return Ok(End::Answered) };
        writeln!(err, "--- {} changed", mivask_show::safe(&changed.display().to_string()))?;
    }
}

/// A path that does not depend on the working directory or on links above it; its file need not be there.
fn whole(path: &Path) -> Option<PathBuf> {
    let path = std::path::absolute(path).ok()?;
    let folder = path.parent()?.canonicalize().ok()?;
    Some(folder.join(path.file_name()?))
}

/// A file that changed before anyone watched it.
fn changed_since(files: &BTreeSet<PathBuf>, time: SystemTime) -> Option<PathBuf> {
    let later = |file: &&PathBuf| {
        let modified = file.metadata().and_then(|facts| facts.modified());
        modified.is_ok_and(|modified| modified >= time)
    };
    files.iter().filter(|file| file.is_file()).find(later).cloned()
}

/// Waits until one of `files` changes and all is quiet again.
fn next(events: &Receiver<notify::Result<Event>>, files: &BTreeSet<PathBuf>) -> Option<PathBuf> {
    let mut changed = None;
    loop {
        let event = match changed {
            None => events.recv().ok()?,
            Some(_) => match events.recv_timeout(SETTLED) {
                Ok(event) => event,
                Err(RecvTimeoutError::Timeout) => return changed,
                Err(RecvTimeoutError::Disconnected) => return None,
            },
        };
        let Ok(event) = event else { continue };
        // Reading a file is an event, too.
        if matches!(event.kind, EventKind::Access(_)) {
            continue;
        }
        let concerned =
            |path: &&PathBuf| files.contains(*path) || path.parent().is_some_and(|up| files.contains(up));
        changed = event.paths.iter().find(concerned).cloned().or(changed);
    }
}
