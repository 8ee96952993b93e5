//! Following whatever code of the app's reads.

use super::Live;
use super::slot::Slot;
use crate::drawer::{Changes, Inner, Scope, Subscriber};
use crate::error::Error;
use parking_lot::Mutex;
use std::collections::BTreeSet;
use std::sync::Arc;

/// Reads a value in one state of the file.
type Ask<R> = dyn FnMut(Scope<'_>) -> Result<R, Error> + Send;

/// Follows a value: it is read again after each commit to a table that it was read from.
pub(crate) struct LiveValue<R> {
    ask: Mutex<Box<Ask<R>>>,
    slot: Arc<Slot<R>>,
}

impl<R: Clone + PartialEq + Send + Sync + 'static> LiveValue<R> {
    pub(crate) fn follow(
        inner: &Arc<Inner>,
        ask: impl FnMut(Scope<'_>) -> Result<R, Error> + Send + 'static,
    ) -> Result<Live<R>, Error> {
        let make = || LiveValue { ask: Mutex::new(Box::new(ask)), slot: Arc::new(Slot::new(R::eq)) };
        Live::follow(inner, None, make, |value| Arc::clone(&value.slot))
    }
}

impl<R: Clone + PartialEq + Send + Sync + 'static> Subscriber for LiveValue<R> {
    fn step(&self, scope: Scope<'_>, _: &Changes) -> Result<BTreeSet<String>, Error> {
        let mut ask = self.ask.lock();
        let (result, tables) = scope.connection.noticing(|| ask(scope));
        self.slot.put(result?);
        Ok(tables)
    }

    fn may_read_others(&self) -> bool {
        true
    }

    fn failed(&self, error: Error) {
        self.slot.fail(error);
    }

    fn end(&self) {
        self.slot.end();
    }
}
