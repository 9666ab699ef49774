//! The same work on many things, on all processors.

use std::convert::Infallible;
use std::sync::mpsc::sync_channel;
use std::sync::{Arc, Mutex, PoisonError};

/// What `work` makes of each of `all`, in their order: as many at a time as there are processors, each taking the next that nobody has.
pub(crate) fn on_each<T: Sync, R: Send>(all: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let give = |give: &mut dyn FnMut(_)| -> Result<(), Infallible> {
        all.iter().for_each(give);
        Ok(())
    };
    let Ok(made) = on_what_comes(give, |one: &&T| work(one));
    made
}

/// What `work` makes of each thing that `make` gives away, in their order: the others work while it makes the next ones, of which few wait.
///
/// # Errors
/// Those of `make`, once all that it gave away is done.
pub(crate) fn on_what_comes<T: Send, R: Send, E>(
    make: impl FnOnce(&mut dyn FnMut(T)) -> Result<(), E>,
    work: impl Fn(&T) -> R + Sync,
) -> Result<Vec<R>, E> {
    let workers = std::thread::available_parallelism().map_or(1, usize::from);
    let (give, take) = sync_channel::<(usize, T)>(2 * workers);
    let take = Arc::new(Mutex::new(take));
    let work = &work;
    std::thread::scope(|scope| {
        let start = |_| {
            // Where every worker has failed nobody takes any more, and whoever gives is told so.
            let take = take.clone();
            scope.spawn(move || {
                let mut made: Vec<(usize, R)> = Vec::new();
                loop {
                    let next = take.lock().unwrap_or_else(PoisonError::into_inner).recv();
                    let Ok((at, one)) = next else { break made };
                    made.push((at, work(&one)));
                }
            })
        };
        let started: Vec<_> = (0..workers).map(start).collect();
        drop(take);
        let mut given = 0;
        let ended = make(&mut |one| {
            // It cannot be given away where all have failed, which is told below.
            let _ = give.send((given, one));
            given += 1;
        });
        drop(give);
        let mut made: Vec<(usize, R)> = Vec::new();
        for worker in started {
            made.extend(worker.join().unwrap_or_else(|failure| std::panic::resume_unwind(failure)));
        }
        made.sort_unstable_by_key(|(at, _)| *at);
        ended.map(|()| made.into_iter().map(|(_, one)| one).collect())
    })
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

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

    #[test]
    fn what_comes_is_done_in_order_and_a_failure_to_make_it_is_told() {
        let made = on_what_comes(
            |give| {
                (0..1000).for_each(give);
                Ok::<(), &str>(())
            },
            |one: &usize| one * 2,
        );
        assert_eq!(made, Ok((0..1000).map(|one| one * 2).collect()));
        let done = AtomicUsize::new(0);
        let failed = on_what_comes(
            |give| {
                (0..5).for_each(give);
                Err("no more")
            },
            |_: &usize| done.fetch_add(1, Ordering::Relaxed),
        );
        assert_eq!((failed, done.into_inner()), (Err("no more"), 5));
    }

    #[test]
    #[should_panic(expected = "nobody works")]
    fn where_all_workers_fail_nothing_waits() {
        let made = on_what_comes(
            |give| {
                (0..1000).for_each(give);
                Ok::<(), ()>(())
            },
            |_: &usize| panic!("nobody works"),
        );
        assert_eq!(made, Ok(Vec::<()>::new()));
    }
}
