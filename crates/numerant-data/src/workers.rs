//! One pool of threads, which all parts of a run share that do the same with many things.

use std::fmt;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use rayon::iter::{IndexedParallelIterator, IntoParallelRefMutIterator, ParallelIterator};
use rayon::{ThreadPool, ThreadPoolBuilder};

/// Bytes of stack of each thread: expressions may be nested.
const STACK: usize = 8 << 20;

/// Threads that are started when there is work for more than one.
///
/// ```
/// use numerant_data::workers::WorkerPool;
///
/// let workers = WorkerPool::new(2);
/// let doubled: Result<Vec<u32>, ()> = workers.try_map(&[3, 1, 2], |number| Ok(number * 2));
/// assert_eq!(doubled, Ok(vec![6, 2, 4]));
/// ```
#[derive(Clone)]
pub struct WorkerPool {
    threads: usize,
    pool: Arc<OnceLock<Option<ThreadPool>>>,
}

impl fmt::Debug for WorkerPool {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("WorkerPool")
            .field("threads", &self.threads)
            .finish_non_exhaustive()
    }
}

impl WorkerPool {
    /// A pool of so many threads; of none besides the one that calls if that is 1.
    pub fn new(threads: usize) -> Self {
        Self {
            threads: threads.max(1),
            pool: Arc::default(),
        }
    }

    /// Threads that work at the same time.
    pub fn threads(&self) -> usize {
        self.threads
    }

    /// The threads; `None` if there is one only, or the system has no more.
    fn pool(&self) -> Option<&ThreadPool> {
        let start = || {
            let builder = ThreadPoolBuilder::new()
                .num_threads(self.threads)
                .stack_size(STACK)
                .thread_name(|number| format!("worker-{number}"));
            builder.build().ok()
        };
        let pool = (self.threads > 1).then(|| self.pool.get_or_init(start));
        pool.and_then(Option::as_ref)
    }

    /// Does `work` with each item and its place, at the same time with several.
    pub fn for_each<T: Send>(&self, items: &mut [T], work: impl Fn(usize, &mut T) + Sync) {
        let pool = if items.len() > 1 { self.pool() } else { None };
        match pool {
            Some(pool) => pool.install(|| {
                let each = items.par_iter_mut().enumerate();
                each.for_each(|(place, item)| work(place, item));
            }),
            None => items
                .iter_mut()
                .enumerate()
                .for_each(|(place, item)| work(place, item)),
        }
    }

    /// Does `work` with each item, begun in their order and at the same time with several, and returns
    /// what came of them in their order.
    ///
    /// # Errors
    ///
    /// The first error by the order of items. No item is begun after an error.
    pub fn try_map<T: Sync, R: Send, E: Send>(
        &self,
        items: &[T],
        work: impl Fn(&T) -> Result<R, E> + Sync,
    ) -> Result<Vec<R>, E> {
        let pool = if items.len() > 1 { self.pool() } else { None };
        let Some(pool) = pool else {
            return items.iter().map(work).collect();
        };
        let next = AtomicUsize::new(0);
        let done: Mutex<Vec<(usize, Result<R, E>)>> = Mutex::new(Vec::with_capacity(items.len()));
        pool.scope(|scope| {
            for _ in 0..self.threads.min(items.len()) {
                scope.spawn(|_| {
                    loop {
                        let place = next.fetch_add(1, Ordering::Relaxed);
                        let Some(item) = items.get(place) else { break };
                        let result = work(item);
                        if result.is_err() {
                            next.store(items.len(), Ordering::Relaxed);
                        }
                        let mut done = done.lock().unwrap_or_else(PoisonError::into_inner);
                        done.push((place, result));
                    }
                });
            }
        });
        let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
        done.sort_unstable_by_key(|(place, _)| *place);
        done.into_iter().map(|(_, result)| result).collect()
    }

    /// Does two things, at the same time if there is a thread for the second.
    pub fn join<A: Send, B: Send>(
        &self,
        first: impl FnOnce() -> A + Send,
        second: impl FnOnce() -> B + Send,
    ) -> (A, B) {
        match self.pool() {
            Some(pool) => pool.join(first, second),
            None => (first(), second()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_come_in_the_order_of_items_whatever_the_threads() {
        let items: Vec<u64> = (0..100).collect();
        for threads in [1, 2, 5] {
            let workers = WorkerPool::new(threads);
            let work = |number: &u64| Ok::<u64, ()>(number * number);
            let all = workers.try_map(&items, work).expect("no error");
            assert_eq!(all, items.iter().map(|n| n * n).collect::<Vec<_>>());
            let failed = workers.try_map(&items, |number| match number {
                40.. => Err(*number),
                _ => Ok(()),
            });
            assert_eq!(failed, Err(40), "{threads} threads");
            assert_eq!(workers.join(|| 1, || 2), (1, 2));
        }
    }

    #[test]
    fn each_item_is_worked_on_once_at_its_place() {
        for threads in [1, 3] {
            let mut items = vec![0; 100];
            WorkerPool::new(threads).for_each(&mut items, |place, item| *item += place + 1);
            assert!(
                items
                    .iter()
                    .enumerate()
                    .all(|(place, item)| *item == place + 1)
            );
        }
    }

    #[test]
    fn work_may_use_the_pool_that_it_is_on() {
        let workers = WorkerPool::new(2);
        let inner = |number: &usize| {
            let doubled = workers.try_map(&[*number, *number], |n| Ok::<usize, ()>(n * 2))?;
            Ok::<usize, ()>(doubled.iter().sum())
        };
        assert_eq!(workers.try_map(&[1, 2, 3], inner), Ok(vec![4, 8, 12]));
    }
}
