//! The directories still to be listed, shared by the threads that list them.

use std::ops::RangeFrom;
use std::os::fd::OwnedFd;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

/// A directory that stays open, so that what is far below it is found from it: from the root the kernel would look up every level
/// again for each directory.
pub(super) struct Anchor {
    /// The directory.
    pub open: OwnedFd,
    /// The anchor before it.
    pub above: Option<Arc<Self>>,
    /// Its path from there, or from the root.
    pub path: Vec<u8>,
}

/// A directory to be listed.
pub(super) struct Job {
    /// The number of its listing.
    pub number: u32,
    /// The nearest anchor; `None` for the root.
    pub anchor: Option<Arc<Anchor>>,
    /// Its path from there; empty for the root itself.
    pub path: Vec<u8>,
}

impl Job {
    /// Its path from the root.
    pub(super) fn whole_path(&self) -> Vec<u8> {
        let mut parts = vec![self.path.as_slice()];
        let mut next = self.anchor.as_ref();
        while let Some(anchor) = next {
            parts.push(&anchor.path);
            next = anchor.above.as_ref();
        }
        parts.reverse();
        parts.retain(|part| !part.is_empty());
        parts.join(&b'/')
    }
}

/// What is still to be done. The newest job comes first, which keeps few waiting.
pub(super) struct Pool {
    state: Mutex<State>,
    changed: Condvar,
}

struct State {
    jobs: Vec<Job>,
    /// How many threads are at work and may bring further jobs.
    busy: usize,
    /// How many threads wait for one.
    waiting: usize,
    next: u32,
    stopped: bool,
}

impl Pool {
    /// With the root to be listed, as number 0.
    pub(super) fn new() -> Self {
        let jobs = vec![Job { number: 0, anchor: None, path: Vec::new() }];
        Self {
            state: Mutex::new(State { jobs, busy: 0, waiting: 0, next: 1, stopped: false }),
            changed: Condvar::new(),
        }
    }

    /// The next directory, or `None` when all is done.
    pub(super) fn take(&self) -> Option<Job> {
        let mut state = self.lock();
        loop {
            if state.stopped {
                return None;
            }
            if let Some(job) = state.jobs.pop() {
                state.busy += 1;
                return Some(job);
            }
            if state.busy == 0 {
                self.changed.notify_all();
                return None;
            }
            state.waiting += 1;
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
            state.waiting -= 1;
        }
    }

    /// A directory is done; `found` are the paths of those in it from `anchor`, and what comes back are their numbers.
    pub(super) fn done(&self, anchor: Option<&Arc<Anchor>>, found: Vec<Vec<u8>>) -> RangeFrom<u32> {
        let mut state = self.lock();
        let first = state.next;
        let new = (first..).zip(found).map(|(number, path)| Job { number, anchor: anchor.cloned(), path });
        let before = state.jobs.len();
        state.jobs.extend(new);
        state.next += u32::try_from(state.jobs.len() - before).unwrap_or(u32::MAX);
        // The first of them is the next to be taken.
        state.jobs[before..].reverse();
        state.busy -= 1;
        // Waking no one takes a system call too.
        if state.waiting > 0 {
            self.changed.notify_all();
        }
        first..
    }

    /// Lets every thread end.
    pub(super) fn stop(&self) {
        self.lock().stopped = true;
        self.changed.notify_all();
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
