//! What a record would store, to see which columns an edit changed.

use crate::column_type::{ColumnType, Misfit, Output};
use crate::record::{Record, Sink};

/// The stored form of a record's columns. Two forms of one type tell which columns differ.
///
/// Columns are compared by what is stored, not by what was read: a fallback that stands for an unknown choice compares
/// equal to itself, and so is not written over what stood there.
#[derive(Debug, Default)]
pub struct StoredForm {
    bytes: Vec<u8>,
    ends: Vec<usize>,
}

impl StoredForm {
    /// The stored form of a record.
    ///
    /// # Errors
    /// When a value has no stored form.
    pub fn of<T: Record>(record: &T) -> Result<StoredForm, Misfit> {
        let mut form = StoredForm { bytes: Vec::with_capacity(128), ends: Vec::with_capacity(T::COLUMNS.len()) };
        record.store(&mut form)?;
        Ok(form)
    }

    /// The positions of the columns that differ.
    pub fn changed(&self, to: &StoredForm) -> Vec<usize> {
        (0..self.ends.len()).filter(|at| self.column(*at) != to.column(*at)).collect()
    }

    fn column(&self, at: usize) -> Option<&[u8]> {
        let start = if at == 0 { 0 } else { *self.ends.get(at - 1)? };
        self.bytes.get(start..*self.ends.get(at)?)
    }
}

impl Sink for StoredForm {
    fn put<C: ColumnType>(&mut self, column: usize, value: &C::Value) -> Result<(), Misfit> {
        C::store(value, &mut self.bytes).map_err(|misfit| misfit.at(column))?;
        self.ends.push(self.bytes.len());
        Ok(())
    }
}

/// Each value as a letter for its kind, and its bytes.
impl Output for &mut Vec<u8> {
    fn missing(self) {
        self.push(b'-');
    }
    fn integer(self, value: i64) {
        self.push(b'i');
        self.extend(value.to_ne_bytes());
    }
    fn real(self, value: f64) {
        self.push(b'r');
        self.extend(value.to_ne_bytes());
    }
    fn text(self, value: &str) {
        self.push(b't');
        self.extend(value.as_bytes());
    }
    fn bytes(self, value: &[u8]) {
        self.push(b'b');
        self.extend(value);
    }
}
