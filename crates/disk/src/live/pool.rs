//! The directories still to be listed, shared by the threads that list them.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::RangeFrom;
use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

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
    /// Entries so far of directories that are done, and how many there may be.
    entries: AtomicU64,
    most: u64,
}

struct State {
    jobs: Vec<Job>,
    /// How many threads are at work and may bring further jobs.
    busy: usize,
    /// How many threads wait for one.
    waiting: usize,
    next: u32,
    stopped: bool,
    /// The directories that are being listed, and when they were last heard of.
    under_way: BTreeMap<u32, (Instant, Vec<u8>)>,
}

impl Pool {
    /// With the root to be listed, as number 0.
    pub(super) fn new(most: u64) -> Self {
        let jobs = vec![Job { number: 0, anchor: None, path: Vec::new() }];
        Self {
            state: Mutex::new(State {
                jobs,
                busy: 0,
                waiting: 0,
                next: 1,
                stopped: false,
                under_way: BTreeMap::new(),
            }),
            changed: Condvar::new(),
            entries: AtomicU64::new(0),
            most,
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
                state.under_way.insert(job.number, (Instant::now(), job.whole_path()));
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
    pub(super) fn done(
        &self,
        (number, entries): (u32, usize),
        anchor: Option<&Arc<Anchor>>,
        found: Vec<Vec<u8>>,
    ) -> RangeFrom<u32> {
        self.entries.fetch_add(entries as u64, Ordering::Relaxed);
        let mut state = self.lock();
        state.under_way.remove(&number);
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

    /// Whether `more` entries, beside those of directories that are done, are too many; then every thread ends.
    pub(super) fn is_too_much(&self, more: usize) -> bool {
        let over = self.entries.load(Ordering::Relaxed) + more as u64 > self.most;
        if over {
            // So that it is seen afterwards, whoever met it.
            self.entries.fetch_add(more as u64, Ordering::Relaxed);
            self.stop();
        }
        over
    }

    /// Whether there were too many entries.
    pub(super) fn is_over(&self) -> bool {
        self.entries.load(Ordering::Relaxed) > self.most
    }

    /// Tells of each directory that takes longer than `patience`, until everything is done.
    pub(super) fn watch_over(&self, patience: Duration, tell: fn(&[u8])) {
        let mut told = BTreeSet::new();
        let mut state = self.lock();
        while !state.stopped {
            let (next, _) =
                self.changed.wait_timeout(state, patience / 10).unwrap_or_else(PoisonError::into_inner);
            state = next;
            for (number, (since, path)) in &state.under_way {
                if since.elapsed() > patience && told.insert(*number) {
                    tell(path);
                }
            }
        }
    }

    /// A directory answers: it is large, not stuck.
    pub(super) fn answers(&self, number: u32) {
        if let Some((since, _)) = self.lock().under_way.get_mut(&number) {
            *since = Instant::now();
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    static TOLD: Mutex<Vec<Vec<u8>>> = Mutex::new(Vec::new());

    fn tell(path: &[u8]) {
        TOLD.lock().unwrap_or_else(PoisonError::into_inner).push(path.to_vec());
    }

    #[test]
    fn a_directory_that_does_not_answer_is_told_of_once() {
        let pool = Pool::new(10);
        let root = pool.take().expect("the root");
        pool.done((root.number, 1), None, vec![b"slow".to_vec()]);
        let slow = pool.take().expect("a directory");
        std::thread::scope(|scope| {
            scope.spawn(|| pool.watch_over(Duration::from_millis(20), tell));
            let begun = Instant::now();
            let told = || !TOLD.lock().unwrap_or_else(PoisonError::into_inner).is_empty();
            while !told() && begun.elapsed() < Duration::from_secs(60) {
                std::thread::sleep(Duration::from_millis(5));
            }
            std::thread::sleep(Duration::from_millis(60));
            pool.done((slow.number, 0), None, Vec::new());
            pool.stop();
        });
        assert_eq!(*TOLD.lock().unwrap_or_else(PoisonError::into_inner), [b"slow".to_vec()]);
    }

    #[test]
    fn a_directory_that_goes_on_answering_is_waited_for_anew() {
        let pool = Pool::new(10);
        let root = pool.take().expect("the root");
        let since = || pool.lock().under_way[&root.number].0;
        let begun = since();
        std::thread::sleep(Duration::from_millis(2));
        assert_eq!(since(), begun);
        pool.answers(root.number);
        assert!(since() > begun);
        // One that is done is nobody's any more.
        pool.answers(root.number + 1);
    }

    #[test]
    fn too_many_entries_end_it() {
        let pool = Pool::new(10);
        let root = pool.take().expect("the root");
        assert!(!pool.is_too_much(10) && !pool.is_over());
        pool.done((root.number, 8), None, vec![b"a".to_vec()]);
        assert!(!pool.is_too_much(2));
        assert!(pool.is_too_much(3) && pool.is_over());
        assert!(pool.take().is_none());
    }
}
