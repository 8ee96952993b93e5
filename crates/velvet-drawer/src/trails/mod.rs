//! Trails: what was written to each record, when, by which session and write, and what stood there before.

mod keeping;
mod wanted;

pub(crate) use keeping::Keeping;
pub(crate) use wanted::Wanted;

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
        self.write(|tx| {
            let forget = |table: &str| match tx.connection().prepare(&format!("DELETE FROM {table}")) {
                Err(Fault { kind: FaultKind::NoTable(_), .. }) => Ok(0),
                Err(fault) => Err(fault),
                Ok(mut statement) => statement.execute(),
            };
            let engine = |fault| self.inner.fault("cannot forget the trail", fault);
            let entries = forget(TRAIL).map_err(engine)?;
            forget(WRITES).map_err(engine)?;
            Ok(entries)
        })
    }
}
