//! Work that takes a while: how far it has come, asking it to stop, what it comes to, and the thread that must not wait for it.

pub(crate) mod cancel;
pub(crate) mod outcome;
pub(crate) mod progress;
pub mod ui_thread;
pub(crate) mod under_way;

use std::cell::RefCell;

/// What the work of a thread is asked, and whom it tells.
#[derive(Default)]
struct Job {
    cancel: Option<cancel::Cancel>,
    teller: Option<progress::Teller>,
}

thread_local! {
    static JOB: RefCell<Job> = const { RefCell::new(Job { cancel: None, teller: None }) };
}

/// A part of the job of this thread.
#[inline]
fn of_job<P, R>(part: fn(&mut Job) -> &mut Option<P>, work: impl FnOnce(&mut Option<P>) -> R) -> R {
    JOB.with_borrow_mut(|job| work(part(job)))
}

/// Runs `work` with this as that part, and puts back what was there before, also when it panics.
fn with_job<P, R>(part: fn(&mut Job) -> &mut Option<P>, value: P, work: impl FnOnce() -> R) -> R {
    struct Before<P>(fn(&mut Job) -> &mut Option<P>, Option<P>);
    impl<P> Drop for Before<P> {
        fn drop(&mut self) {
            let before = self.1.take();
            // It is dropped when nothing is borrowed any more.
            let _now = of_job(self.0, |part| std::mem::replace(part, before));
        }
    }
    let _before = Before(part, of_job(part, |part| part.replace(value)));
    work()
}
