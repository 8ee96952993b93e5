//! What a record would store, to see which columns an edit changed.

use crate::column_type::{ColumnType, Misfit, Output};
use crate::records::record::{Record, Sink, stored_value_at};
use crate::search::letters::ignoring_case;
use crate::value::{Value, ValueRef};

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

    /// The value of the column at this position.
    pub fn value(&self, at: usize) -> ValueRef<'_> {
        let Some((kind, bytes)) = self.column(at).and_then(<[u8]>::split_first) else { return ValueRef::Missing };
        let number = || bytes.try_into().unwrap_or_default();
        match kind {
            b'i' => ValueRef::Integer(i64::from_ne_bytes(number())),
            b'r' => ValueRef::Real(f64::from_ne_bytes(number())),
            b't' => std::str::from_utf8(bytes).map_or(ValueRef::BrokenText(bytes), ValueRef::Text),
            b'b' => ValueRef::Bytes(bytes),
            _ => ValueRef::Missing,
        }
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

/// The positions of the columns in which a record differs from a stored row, whose values `stored` gives by position. Nothing
/// is copied for it.
///
/// # Errors
/// When a value of the record has no stored form.
pub fn differing<'r, T: Record>(
    record: &T,
    stored: impl Fn(usize) -> ValueRef<'r>,
    positions: &mut Vec<usize>,
) -> Result<(), Misfit> {
    struct Compare<'a, F> {
        stored: F,
        positions: &'a mut Vec<usize>,
    }
    impl<'r, F: Fn(usize) -> ValueRef<'r>> Sink for Compare<'_, F> {
        fn put<C: ColumnType>(&mut self, column: usize, value: &C::Value) -> Result<(), Misfit> {
            let mut same = false;
            C::store(value, Same { stored: (self.stored)(column), same: &mut same }).map_err(|m| m.at(column))?;
            if !same {
                self.positions.push(column);
            }
            Ok(())
        }
    }
    positions.clear();
    record.store(&mut Compare { stored, positions })
}

/// Whether a value is the one that is stored.
struct Same<'a, 'r> {
    stored: ValueRef<'r>,
    same: &'a mut bool,
}

impl Output for Same<'_, '_> {
    fn missing(self) {
        *self.same = self.stored == ValueRef::Missing;
    }
    fn integer(self, value: i64) {
        *self.same = self.stored == ValueRef::Integer(value);
    }
    fn real(self, value: f64) {
        *self.same = self.stored == ValueRef::Real(value);
    }
    fn text(self, value: &str) {
        *self.same = self.stored == ValueRef::Text(value);
    }
    fn bytes(self, value: &[u8]) {
        *self.same = self.stored == ValueRef::Bytes(value);
    }
}

/// The values of some columns as one key to look records up by: the same for the same values, in a record and in a stored row.
/// Nothing when one of them is missing, because nothing is the same as nothing.
///
/// # Errors
/// When a value has no stored form.
pub fn lookup_key<T: Record>(record: &T, positions: &[usize]) -> Result<Option<Vec<u8>>, Misfit> {
    let values = positions.iter().map(|at| stored_value_at(record, *at)).collect::<Result<Vec<Value>, Misfit>>()?;
    let mut key = Vec::new();
    let there = push_key::<T>(positions.iter().copied().zip(values.iter().map(Value::as_ref)), &mut key);
    Ok(there.then_some(key))
}

/// Appends the key that [`lookup_key`] makes of the same values, each with the position of its column; says whether all of them are there.
pub fn push_key<'r, T: Record>(values: impl Iterator<Item = (usize, ValueRef<'r>)>, key: &mut Vec<u8>) -> bool {
    for (position, value) in values {
        let from = key.len();
        match value {
            ValueRef::Missing => return false,
            ValueRef::Text(text) if T::IGNORES_CASE.contains(&position) => {
                let (compared, length) = ignoring_case(text.as_bytes());
                key.extend(compared);
                key.extend(length.to_ne_bytes());
            }
            ValueRef::Integer(number) => Output::integer(&mut *key, number),
            ValueRef::Real(number) => Output::real(&mut *key, number),
            ValueRef::Text(text) => Output::text(&mut *key, text),
            ValueRef::BrokenText(bytes) | ValueRef::Bytes(bytes) => Output::bytes(&mut *key, bytes),
        }
        // Its length behind it, so that two values never run into each other.
        let length = key.len() - from;
        key.extend(length.to_ne_bytes());
    }
    true
}
