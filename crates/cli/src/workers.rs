//! The same work on many things, on all processors.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

/// What `work` makes of each of `all`, in their order: as many at a time as there are processors, each taking the next that nobody has.
pub(crate) fn on_each<T: Sync, R: Send>(all: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let made: Vec<Mutex<Option<R>>> = all.iter().map(|_| Mutex::new(None)).collect();
    let next = AtomicUsize::new(0);
    let workers = std::thread::available_parallelism().map_or(1, usize::from).min(all.len());
    std::thread::scope(|scope| {
        for _ in 0..workers {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    let (Some(one), Some(slot)) = (all.get(at), made.get(at)) else { break };
                    let result = work(one);
                    *slot.lock().expect("no worker fails while it holds the lock") = Some(result);
                }
            });
        }
    });
    let results = made.into_iter().map(|slot| {
        let result = slot.into_inner().expect("no worker fails while it holds the lock");
        result.expect("every one has been taken by a worker")
    });
    results.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_done_once_and_results_are_in_order() {
        let all: Vec<usize> = (0..1000).collect();
        let done = AtomicUsize::new(0);
        let made = on_each(&all, |one| {
            done.fetch_add(1, Ordering::Relaxed);
            one * 2
        });
        assert_eq!(made, all.iter().map(|one| one * 2).collect::<Vec<_>>());
        assert_eq!(done.into_inner(), 1000);
        assert_eq!(on_each(&[] as &[usize], |one| *one), Vec::<usize>::new());
    }
}
