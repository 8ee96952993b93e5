//! Results that follow what is stored.

mod rows;
mod slot;
mod update;
mod value;

pub(crate) use rows::{ByRow, LiveRows, Of, Show};
pub use update::{State, Update};
pub(crate) use value::LiveValue;

use crate::drawer::{Inner, Share, Subscriber, Subscription};
use crate::error::Error;
use crate::work::ui_thread;
use slot::Slot;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

/// A result that follows what is stored: as it is now, and again after each commit that changes it.
///
/// A thread of the drawer's works it out, so nothing here reads the file, and whoever is slow to take a result keeps nobody waiting and collects
/// nothing: it gets the newest, with what changed since the one that it took before. Two that follow the same share the work.
///
/// It is an iterator that waits, gives what is new at once ([`Live::news`]), within a time ([`Live::news_within`]), or as a [`LiveStream`] in any async
/// runtime. It ends when the drawer is closed, or [`Switch::stop`] is called; dropping it ends the work for it at once.
///
/// A first result, and one after a rest, comes at once; while commits go on coming, there are pauses of up to 100 ms between results.
///
/// ```
/// # use velvet_drawer::{Drawer, Record, Schema, Step};
/// # #[derive(Record)] struct Glaze { name: String }
/// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
/// let mut glazes = drawer.records::<Glaze>().sort_by(|g| g.name.ascending()).watch()?;
/// let first = glazes.next().expect("the drawer is open").map_err(|failed| failed.to_string()).unwrap();
/// assert!(first.result.is_empty());
///
/// let celadon = drawer.insert(Glaze { name: "Celadon".into() })?;
/// let update = glazes.next().expect("the drawer is open").map_err(|failed| failed.to_string()).unwrap();
/// assert_eq!(update.result[0].name, "Celadon");
/// assert_eq!(update.steps(), [Step::Added { at: 0, number: celadon.key().number() }]);
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
#[must_use = "nothing is followed any more once it is dropped"]
pub struct Live<R> {
    slot: Arc<Slot<R>>,
    ticket: Arc<Subscription>,
    /// The state that was taken last, and the result that it had or that stood before.
    taken: u64,
    before: Option<R>,
    has_failed: bool,
}

/// Pauses a [`Live`] that somebody else has, lets it go on, or ends it: for a screen that is hidden while a task follows for it.
#[derive(Clone)]
pub struct Switch {
    ticket: Arc<Subscription>,
    wake: Arc<dyn slot::Wake>,
}

/// A [`Live`] as a stream of updates, for any async runtime.
#[must_use = "nothing is followed any more once it is dropped"]
pub struct LiveStream<R>(Live<R>);

impl<R: Clone + Send + Sync + 'static> Live<R> {
    pub(crate) fn follow<F: Subscriber>(
        inner: &Arc<Inner>,
        share: Option<Share>,
        make: impl FnOnce() -> F,
        slot: impl FnOnce(&F) -> Arc<Slot<R>>,
    ) -> Result<Live<R>, Error> {
        let (follower, ticket) = inner.follow(share, || Arc::new(make()))?;
        let follower: Arc<dyn std::any::Any + Send + Sync> = follower;
        let Ok(follower) = follower.downcast::<F>() else { unreachable!("what is shared is of one type") };
        Ok(Live { slot: slot(&follower), ticket: Arc::new(ticket), taken: 0, before: None, has_failed: false })
    }

    /// The state now: not loaded yet, loaded, or failed.
    pub fn now(&self) -> State<R> {
        self.slot.now()
    }

    /// What is new since the last time, at once; nothing where nothing is.
    pub fn news(&mut self) -> Option<Result<Update<R>, Arc<Error>>> {
        if self.ticket.is_paused() {
            return None;
        }
        let news = self.slot.after(self.taken)?;
        self.take(news)
    }

    /// What is new since the last time; waits for it, but no longer than `time`. Nothing where nothing came, or it is over ([`Live::is_over`]).
    pub fn news_within(&mut self, time: Duration) -> Option<Result<Update<R>, Arc<Error>>> {
        self.wait_until(Instant::now().checked_add(time))
    }

    /// Whether nothing will come any more: the drawer was closed, or [`Switch::stop`] called.
    pub fn is_over(&self) -> bool {
        self.slot.is_over() || self.ticket.is_stopped()
    }

    /// Works nothing out for it, and gives nothing, until [`Live::go_on`]: for a screen that is hidden.
    pub fn pause(&self) {
        self.switch().pause();
    }

    /// Goes on after [`Live::pause`]: with one update, if anything changed meanwhile.
    pub fn go_on(&self) {
        self.switch().go_on();
    }

    /// What pauses or ends it from elsewhere.
    pub fn switch(&self) -> Switch {
        Switch { ticket: Arc::clone(&self.ticket), wake: self.slot.clone() }
    }

    /// The same as a stream, for any async runtime.
    pub fn stream(self) -> LiveStream<R> {
        LiveStream(self)
    }

    fn wait_until(&mut self, until: Option<Instant>) -> Option<Result<Update<R>, Arc<Error>>> {
        let _waits = ui_thread::watched();
        let (slot, ticket) = (Arc::clone(&self.slot), Arc::clone(&self.ticket));
        loop {
            let news = slot.wait(self.taken, until, || (ticket.is_paused(), ticket.is_stopped()))?;
            if let Some(update) = self.take(news) {
                return Some(update);
            }
        }
    }

    /// Takes a state; nothing where the result is what it was before, after others that were not taken.
    fn take(&mut self, (number, news): (u64, Result<R, Arc<Error>>)) -> Option<Result<Update<R>, Arc<Error>>> {
        self.taken = number;
        let result = match news {
            Ok(result) => result,
            Err(error) => {
                self.has_failed = true;
                return Some(Err(error));
            }
        };
        let is_back = std::mem::take(&mut self.has_failed);
        if !is_back && self.before.as_ref().is_some_and(|before| self.slot.is_same(before, &result)) {
            return None;
        }
        let before = self.before.replace(result.clone());
        Some(Ok(Update { result, before, is_back }))
    }
}

impl<R: Clone + Send + Sync + 'static> Iterator for Live<R> {
    type Item = Result<Update<R>, Arc<Error>>;

    /// Waits for what is new. A failure is told, and is not the end.
    fn next(&mut self) -> Option<Self::Item> {
        self.wait_until(None)
    }
}

impl<R> Drop for Live<R> {
    fn drop(&mut self) {
        self.ticket.stop();
        self.slot.forget(Arc::as_ptr(&self.ticket).addr());
    }
}

impl Switch {
    /// As [`Live::pause`].
    pub fn pause(&self) {
        self.ticket.pause(true);
    }

    /// As [`Live::go_on`].
    pub fn go_on(&self) {
        self.ticket.pause(false);
        self.wake.wake_all();
    }

    /// Ends it: whoever waits for what is new gets nothing more.
    pub fn stop(&self) {
        self.ticket.stop();
        self.wake.wake_all();
    }
}

impl<R: Clone + Send + Sync + Unpin + 'static> futures_core::Stream for LiveStream<R> {
    type Item = Result<Update<R>, Arc<Error>>;

    fn poll_next(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let live = &mut self.get_mut().0;
        // Whoever is to be woken is noted first, so that nothing is missed in between.
        live.slot.wake_later(Arc::as_ptr(&live.ticket).addr(), context.waker());
        match live.news() {
            Some(news) => Poll::Ready(Some(news)),
            None if live.is_over() => Poll::Ready(None),
            None => Poll::Pending,
        }
    }
}

impl<R> LiveStream<R> {
    /// The same, to be waited for.
    pub fn into_live(self) -> Live<R> {
        self.0
    }
}
