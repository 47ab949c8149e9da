//! Work that several threads share.

use std::thread;

/// Does `work` on up to so many threads, this one among them, and comes back when all are done. Where the system has
/// no more threads, fewer do it.
pub fn on_threads(count: usize, work: impl Fn() + Sync) {
    thread::scope(|scope| {
        for _ in 1..count {
            if thread::Builder::new().spawn_scoped(scope, &work).is_err() {
                break;
            }
        }
        work();
    });
}

/// Does two things, at the same time if there is a thread for the second.
pub fn both<A: Send, B>(first: impl Fn() -> A + Sync, second: impl FnOnce() -> B) -> (A, B) {
    thread::scope(|scope| {
        let other = thread::Builder::new().spawn_scoped(scope, &first);
        let second = second();
        let first = match other {
            Ok(other) => match other.join() {
                Ok(done) => done,
                Err(panic) => std::panic::resume_unwind(panic),
            },
            Err(_) => first(),
        };
        (first, second)
    })
}
