//! Listings that are finished, kept for the one who puts them together while others are still made.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

use super::listing::Listing;

/// Listings by number.
#[derive(Default)]
pub(super) struct Finished {
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Default)]
struct State {
    listings: Vec<Option<Listing>>,
    /// How many threads may still bring some.
    at_work: usize,
    /// The number that is waited for: a call that wakes no one costs as much as looking at a file.
    wanted: Option<usize>,
}

/// A thread that brings listings. The last one that ends, in whatever way, lets no one wait any longer.
pub(super) struct Bringer<'a>(&'a Finished);

impl Finished {
    /// One more thread begins; call it before the first [`Self::wait_for`].
    pub(super) fn begin(&self) -> Bringer<'_> {
        self.lock().at_work += 1;
        Bringer(self)
    }

    /// The listing with this number, as soon as it is finished; `None` if it never will be.
    pub(super) fn wait_for(&self, number: usize) -> Option<Listing> {
        let mut state = self.lock();
        loop {
            if let Some(listing) = state.listings.get_mut(number).and_then(Option::take) {
                return Some(listing);
            }
            if state.at_work == 0 {
                return None;
            }
            state.wanted = Some(number);
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
        if state.listings.len() <= number {
            state.listings.resize_with(number + 1, || None);
        }
        state.listings[number] = Some(listing);
        if state.wanted.take_if(|wanted| *wanted == number).is_some() {
            drop(state);
            self.0.changed.notify_one();
        }
    }
}

impl Drop for Bringer<'_> {
    fn drop(&mut self) {
        self.0.lock().at_work -= 1;
        self.0.changed.notify_one();
    }
}
