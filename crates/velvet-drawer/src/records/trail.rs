//! Forgetting what a trail has kept.

use crate::bookkeeping::trails::begin_again;
use crate::drawer::Drawer;
use crate::engine::{Fault, FaultKind};
use crate::error::Error;
use velvet_core::statement::{TRAIL, WRITES};

impl Drawer {
    /// Forgets all that the trail has kept so far; where it is on, it goes on from here. Says how many entries there were.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn forget_trail(&self) -> Result<u64, Error> {
        self.inner.transaction(|scope| {
            let forget = |table: &str| match scope.connection.execute(&format!("DELETE FROM {table}"), []) {
                Err(Fault { kind: FaultKind::NoTable(_), .. }) => Ok(0),
                forgotten => forgotten,
            };
            scope.doing(
                || "cannot forget the trail",
                || {
                    let entries = forget(TRAIL)?;
                    forget(WRITES)?;
                    begin_again(scope.connection)?;
                    Ok(entries)
                },
            )
        })
    }
}
