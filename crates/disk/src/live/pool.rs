//! The directories still to be listed, shared by the threads that list them.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

/// A directory to be listed.
pub(super) struct Job {
    /// The number of its listing.
    pub number: u32,
    /// Its path below the root; empty for the root itself.
    pub path: Vec<u8>,
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
    next: u32,
    stopped: bool,
}

impl Pool {
    /// With the root to be listed, as number 0.
    pub(super) fn new() -> Self {
        let jobs = vec![Job { number: 0, path: Vec::new() }];
        Self { state: Mutex::new(State { jobs, busy: 0, next: 1, stopped: false }), changed: Condvar::new() }
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
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// A directory is done; `found` are the paths of those in it. Gives the number of the first; the others follow.
    pub(super) fn done(&self, found: &mut Vec<Vec<u8>>, numbered: impl FnOnce(u32)) {
        let mut state = self.lock();
        let first = state.next;
        numbered(first);
        for (number, path) in (first..).zip(found.drain(..)) {
            state.jobs.push(Job { number, path });
            state.next = number + 1;
        }
        state.busy -= 1;
        self.changed.notify_all();
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
