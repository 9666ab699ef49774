//! Listings that are finished, kept for the one who puts them together while others are still made.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

use rustc_hash::FxHashMap;

use super::listing::Listing;

/// Listings by number.
pub(super) struct Finished {
    state: Mutex<State>,
    changed: Condvar,
    /// Told where there is room again for those who bring.
    room: Condvar,
    /// Entries that are kept at most while whoever asks for them is at work, beside those of the listings that are just brought.
    most: usize,
}

#[derive(Default)]
struct State {
    listings: FxHashMap<usize, Listing>,
    /// How many entries these have together.
    kept: usize,
    /// Nobody asks for any more.
    closed: bool,
    /// How many threads may still bring some.
    at_work: usize,
    /// The number that is waited for: a call that wakes no one costs as much as looking at a file.
    wanted: Option<usize>,
}

/// A thread that brings listings. The last one that ends, in whatever way, lets no one wait any longer.
pub(super) struct Bringer<'a>(&'a Finished);

impl Finished {
    /// Keeps as many entries as there are, or about `most`.
    pub(super) fn new(most: usize) -> Self {
        Self { state: Mutex::default(), changed: Condvar::new(), room: Condvar::new(), most }
    }

    /// Nobody asks for listings any more, so that nobody waits for room.
    pub(super) fn close(&self) {
        self.lock().closed = true;
        self.room.notify_all();
    }

    /// One more thread begins; call it before the first [`Self::wait_for`].
    pub(super) fn begin(&self) -> Bringer<'_> {
        self.lock().at_work += 1;
        Bringer(self)
    }

    /// The listing with this number, as soon as it is finished; `None` if it never will be.
    pub(super) fn wait_for(&self, number: usize) -> Option<Listing> {
        let mut state = self.lock();
        loop {
            if let Some(listing) = state.listings.remove(&number) {
                let full = state.kept > self.most;
                state.kept -= listing.entries.len();
                if full && state.kept <= self.most {
                    self.room.notify_all();
                }
                return Some(listing);
            }
            if state.at_work == 0 {
                return None;
            }
            state.wanted = Some(number);
            // What is waited for may be among what there is no room for.
            if state.kept > self.most {
                self.room.notify_all();
            }
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Bringer<'_> {
    /// Keeps a finished listing.
    pub(super) fn bring(&self, number: u32, listing: Listing) {
        let mut state = self.0.lock();
        let number = number as usize;
        state.kept += listing.entries.len();
        state.listings.insert(number, listing);
        if state.wanted.take_if(|wanted| *wanted == number).is_some() {
            self.0.changed.notify_one();
        }
        while state.kept > self.0.most && state.wanted.is_none() && !state.closed {
            state = self.0.room.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

impl Drop for Bringer<'_> {
    fn drop(&mut self) {
        self.0.lock().at_work -= 1;
        self.0.changed.notify_one();
    }
}
