//! The functions by which statements seal and open values, and the keys they do it with.

use super::{Connection, Fault};
use rusqlite::Error::UserFunctionError;
use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::ValueRef as EngineValue;
use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use velvet_core::sealing::{
    ColumnSeal, FILE_ID, NONCE, OF_PLAIN, Plain, SEAL, SecretKey, Shut, TO_PLAIN, UNSEAL, key_number,
};
use velvet_core::{Value, ValueRef};

/// What a message begins with that one of these functions fails with.
pub(super) const FAILS: &str = "velvet_seal: ";

/// The keys of a file, for all of its connections. Without any, nothing is sealed, and what is stays shut.
#[derive(Default)]
pub(crate) struct Seals(Mutex<Keys>);

#[derive(Default)]
struct Keys {
    file_id: [u8; FILE_ID],
    keys: BTreeMap<u32, SecretKey>,
    /// The number of the key that seals.
    current: Option<u32>,
    /// Where a key is found that another process made since.
    find: Option<Arc<Find>>,
    /// How many keys were not found.
    missed: u8,
    columns: Vec<(u32, String, Arc<ColumnSeal>)>,
}

/// So many keys are looked for that are not found; what a file says of further ones may be made up, and a keeper may take its time.
const LOOKED_FOR: u8 = 8;

/// Finds the key with a number.
pub(crate) type Find = dyn Fn(u32) -> Option<SecretKey> + Send + Sync;

impl Seals {
    /// These are the keys from now on, the last of which seals.
    pub(crate) fn are(&self, file_id: [u8; FILE_ID], keys: BTreeMap<u32, SecretKey>, find: Arc<Find>) {
        let current = keys.keys().next_back().copied();
        *self.keys() = Keys { file_id, keys, current, find: Some(find), missed: 0, columns: Vec::new() };
    }

    /// Whether there is any.
    pub(crate) fn has_key(&self) -> bool {
        !self.keys().keys.is_empty()
    }

    /// Seals with the key that has this number, which another process may have made.
    pub(crate) fn seal_with(&self, number: u32) {
        let mut keys = self.keys();
        if keys.current != Some(number) {
            keys.missed = 0;
            keys.current = keys.key(number).map(|()| number);
        }
    }

    fn keys(&self) -> MutexGuard<'_, Keys> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn sealed(&self, plain: &[u8], label: &str, row: i64) -> Result<Vec<u8>, String> {
        let column = {
            let mut keys = self.keys();
            let current = keys.current.ok_or("the key of the sealed values is missing")?;
            keys.column(current, label).ok_or("the key of the sealed values is missing")?
        };
        let mut nonce = [0; NONCE];
        getrandom::fill(&mut nonce).map_err(|error| format!("the system has no randomness ({error})"))?;
        Ok(column.seal(plain, row, nonce))
    }

    fn opened(&self, sealed: &[u8], label: &str, row: i64) -> Value {
        let Some(number) = key_number(sealed) else { return Shut::Damaged.sign() };
        let column = self.keys().column(number, label);
        match column.map(|column| column.open(sealed, row)) {
            None => Shut::NoKey.sign(),
            Some(None) => Shut::Damaged.sign(),
            Some(Some(plain)) => Value::Bytes(plain.to_vec()),
        }
    }
}

impl Keys {
    /// Sees that the key with a number is there, if it can be found.
    fn key(&mut self, number: u32) -> Option<()> {
        if !self.keys.contains_key(&number) {
            let find = self.find.as_ref().filter(|_| !self.keys.is_empty() && self.missed < LOOKED_FOR)?;
            match find(number) {
                Some(key) => self.keys.insert(number, key),
                None => {
                    self.missed += 1;
                    return None;
                }
            };
        }
        Some(())
    }

    fn column(&mut self, number: u32, label: &str) -> Option<Arc<ColumnSeal>> {
        if let Some((_, _, column)) = self.columns.iter().find(|(n, l, _)| *n == number && l == label) {
            return Some(Arc::clone(column));
        }
        self.key(number)?;
        let column = Arc::new(ColumnSeal::new(self.keys.get(&number)?, number, &self.file_id, label));
        self.columns.push((number, label.to_owned(), Arc::clone(&column)));
        Some(column)
    }
}

impl fmt::Debug for Seals {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Seals(…)")
    }
}

impl Connection {
    /// Tells the engine of the functions that seal and open. What a file defines, such as a trigger, cannot call them.
    pub(super) fn seal_with(&self, seals: &Arc<Seals>) -> Result<(), Fault> {
        let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DIRECTONLY;
        let same_each_time = flags | FunctionFlags::SQLITE_DETERMINISTIC;
        let here = Arc::clone(seals);
        self.engine.create_scalar_function(SEAL, 3, flags, move |context| match arguments(context)? {
            (ValueRef::Missing, ..) => Ok(None),
            (plain, label, row) => here.sealed(bytes(plain), label, row).map(Some).map_err(fails),
        })?;
        let here = Arc::clone(seals);
        self.engine.create_scalar_function(UNSEAL, 3, flags, move |context| {
            Ok(value(match arguments(context)? {
                (ValueRef::Missing, ..) => Value::Missing,
                (sealed, label, row) => here.opened(bytes(sealed), label, row),
            }))
        })?;
        self.engine
            .create_scalar_function(TO_PLAIN, 1, same_each_time, |context| Ok(Plain::of(argument(context, 0))))?;
        self.engine.create_scalar_function(OF_PLAIN, 1, same_each_time, |context| match argument(context, 0) {
            ValueRef::Missing => Ok(value(Value::Missing)),
            plain => match Plain::read(bytes(plain)) {
                Some(found) => Ok(value(found.to_value())),
                None => Err(fails("what is sealed cannot be opened: its key is missing, or it is damaged".to_owned())),
            },
        })?;
        // What is opened must not be written to a temporary file.
        self.run("PRAGMA temp_store = MEMORY")
    }
}

fn argument<'c>(context: &'c Context<'_>, at: usize) -> ValueRef<'c> {
    match context.get_raw(at) {
        EngineValue::Integer(number) => ValueRef::Integer(number),
        EngineValue::Real(number) => ValueRef::Real(number),
        EngineValue::Text(bytes) => std::str::from_utf8(bytes).map_or(ValueRef::BrokenText(bytes), ValueRef::Text),
        EngineValue::Blob(bytes) => ValueRef::Bytes(bytes),
        EngineValue::Null => ValueRef::Missing,
    }
}

fn arguments<'c>(context: &'c Context<'_>) -> rusqlite::Result<(ValueRef<'c>, &'c str, i64)> {
    let label = context.get_raw(1).as_str().map_err(|_| fails("the label is no text".to_owned()))?;
    let row = context.get_raw(2).as_i64().map_err(|_| fails("the row has no number".to_owned()))?;
    Ok((argument(context, 0), label, row))
}

fn bytes(value: ValueRef<'_>) -> &[u8] {
    match value {
        ValueRef::Bytes(bytes) | ValueRef::BrokenText(bytes) => bytes,
        ValueRef::Text(text) => text.as_bytes(),
        _ => &[],
    }
}

fn value(value: Value) -> rusqlite::types::Value {
    match value {
        Value::Missing => rusqlite::types::Value::Null,
        Value::Integer(number) => rusqlite::types::Value::Integer(number),
        Value::Real(number) => rusqlite::types::Value::Real(number),
        Value::Text(text) => rusqlite::types::Value::Text(text),
        Value::Bytes(bytes) => rusqlite::types::Value::Blob(bytes),
    }
}

fn fails(why: impl Into<String>) -> rusqlite::Error {
    UserFunctionError(format!("{FAILS}{}", why.into()).into())
}
