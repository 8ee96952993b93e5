//! The records of a selection that can be read, beside those that cannot.

use super::{Records, stored};
use crate::drawer::Access;
use crate::error::Error;
use velvet_core::statement::Select;
use velvet_core::{Key, Record, Stored};

/// What [`Records::collect_readable`] found.
#[derive(Debug)]
pub struct Readable<T: Record> {
    /// The records that can be read, in the order of the selection.
    pub records: Vec<Stored<T>>,
    /// Those that cannot: their keys, and why. Each can still be removed, or put right by [`crate::Drawer::replace`], which
    /// writes every column.
    pub unreadable: Vec<(Key<T>, Error)>,
}

impl<T: Record, A: Access> Records<T, A> {
    /// The records as a list, passing over those that hold a value their type does not take, such as one that another program
    /// wrote: [`Records::collect`] fails at the first of them.
    ///
    /// # Errors
    /// When the file cannot be read, or a condition's value has no stored form.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record, Debug)] struct Piece { mark: String, grams: u16 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # drawer.insert(Piece { mark: "K-1".into(), grams: 640 })?;
    /// # drawer.write(|tx| tx.sql("insert into piece (mark, grams) values ('K-2', -1)").run())?;
    /// let found = drawer.records::<Piece>().collect_readable()?;
    /// assert_eq!(found.records.len(), 1);
    /// let (key, why) = &found.unreadable[0];
    /// assert!(why.to_string().starts_with("cannot read piece 2: in piece.grams, -1 does not fit u16"));
    /// drawer.replace(*key, Piece { mark: "K-2".into(), grams: 0 })?;
    /// # assert_eq!(drawer.records::<Piece>().collect()?.len(), 2);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn collect_readable(self) -> Result<Readable<T>, Error> {
        let mut found = Readable { records: Vec::new(), unreadable: Vec::new() };
        self.run(Select::rows::<T>, |scope, rows| {
            rows.each(|row| {
                match stored(row) {
                    Ok(record) => found.records.push(record),
                    Err(why) => found.unreadable.push((Key::from_number(row.key()), scope.inner.place.name(why))),
                }
                Ok::<_, Error>(())
            })
        })?;
        Ok(found)
    }
}
