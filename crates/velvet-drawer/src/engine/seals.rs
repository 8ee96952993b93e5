//! The functions by which statements seal and open values, and the keys they do it with.

use super::{Connection, Fault};
use parking_lot::{Mutex, MutexGuard};
use rusqlite::Error::UserFunctionError;
use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::ValueRef as EngineValue;
use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;
use velvet_core::sealing::{
    ColumnSeal, FILE_ID, NONCE, OF_PLAIN, Plain, RESEAL, SEAL, SealedPlace, SecretKey, Shut, TO_PLAIN, UNSEAL,
    key_number,
};
use velvet_core::{Value, ValueRef};
use zeroize::Zeroizing;

/// What a message begins with that one of these functions fails with.
pub(super) const FAILS: &str = "velvet_seal: ";

/// The same, where a value was changed, or belongs elsewhere.
pub(super) const DOES_NOT_OPEN: &str = "velvet_unseal: ";

/// The keys of a file, for all of its connections. Without any, nothing is sealed, and what is stays shut.
#[derive(Default)]
pub(crate) struct Seals {
    keys: Mutex<Keys>,
    names: Arc<[(String, String)]>,
}

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
    /// Those of a file in which sealed values are bound to the names in these tables and columns.
    pub(crate) fn bound_to(names: impl Iterator<Item = (String, String)>) -> Seals {
        Seals { names: names.collect(), ..Seals::default() }
    }

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
        self.keys.lock()
    }

    fn sealed(&self, plain: &[u8], label: &str, place: SealedPlace<'_>) -> rusqlite::Result<Vec<u8>> {
        if let Some(shut) = Shut::of_sign(plain) {
            return Err(cannot_open(shut));
        }
        let column = {
            let mut keys = self.keys();
            let column = keys.current.and_then(|current| keys.column(current, label));
            column.ok_or_else(|| fails("the key of the sealed values is missing"))?
        };
        let mut nonce = [0; NONCE];
        getrandom::fill(&mut nonce).map_err(|error| fails(format!("the system has no randomness ({error})")))?;
        Ok(column.seal(plain, place, nonce))
    }

    fn opened(&self, sealed: &[u8], label: &str, place: SealedPlace<'_>) -> Value {
        let Some(number) = key_number(sealed) else { return Shut::Damaged.sign() };
        let column = self.keys().column(number, label);
        match column.map(|column| column.open(sealed, place)) {
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
    pub(crate) fn seal_with(&self, seals: &Arc<Seals>) -> Result<(), Fault> {
        let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DIRECTONLY;
        let same_each_time = flags | FunctionFlags::SQLITE_DETERMINISTIC;
        // The name is left away where there is none.
        for arguments in [3, 4] {
            let here = Arc::clone(seals);
            self.engine.create_scalar_function(SEAL, arguments, flags, move |context| match argument(context, 0) {
                ValueRef::Missing => Ok(None),
                plain => {
                    let name = name(context, 3);
                    here.sealed(bytes(plain), label(context)?, place(context, name.as_deref())?).map(Some)
                }
            })?;
            let here = Arc::clone(seals);
            self.engine.create_scalar_function(UNSEAL, arguments, flags, move |context| {
                Ok(value(match argument(context, 0) {
                    ValueRef::Missing => Value::Missing,
                    sealed => {
                        let name = name(context, 3);
                        here.opened(bytes(sealed), label(context)?, place(context, name.as_deref())?)
                    }
                }))
            })?;
        }
        let here = Arc::clone(seals);
        self.engine.create_scalar_function(RESEAL, 5, flags, move |context| {
            let (sealed, [before, after]) = (argument(context, 0), [3, 4].map(|at| name(context, at)));
            let (label, before, after) =
                (label(context)?, place(context, before.as_deref())?, place(context, after.as_deref())?);
            Ok(value(match here.opened(bytes(sealed), label, before) {
                Value::Bytes(plain) if Shut::of_sign(&plain) != Some(Shut::Damaged) => {
                    Value::Bytes(here.sealed(&Zeroizing::new(plain), label, after)?)
                }
                _ => sealed.to_value(),
            }))
        })?;
        self.engine
            .create_scalar_function(TO_PLAIN, 1, same_each_time, |context| Ok(Plain::of(argument(context, 0))))?;
        self.engine.create_scalar_function(OF_PLAIN, 1, same_each_time, |context| match argument(context, 0) {
            ValueRef::Missing => Ok(value(Value::Missing)),
            plain => match Plain::read(bytes(plain)) {
                Some(found) => Ok(value(found.to_value())),
                None => Err(cannot_open(Shut::of_sign(bytes(plain)).unwrap_or(Shut::Damaged))),
            },
        })?;
        self.guard.keep_names(&seals.names);
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

fn label<'c>(context: &'c Context<'_>) -> rusqlite::Result<&'c str> {
    context.get_raw(1).as_str().map_err(|_| fails("the label is no text"))
}

/// The name at a position in [`Plain`] form, where there is one.
fn name(context: &Context<'_>, at: usize) -> Option<Vec<u8>> {
    Plain::of((at < context.len()).then(|| argument(context, at))?)
}

fn place<'n>(context: &Context<'_>, name: Option<&'n [u8]>) -> rusqlite::Result<SealedPlace<'n>> {
    let row = context.get_raw(2).as_i64().map_err(|_| fails("the row has no number"))?;
    Ok(SealedPlace { row, name })
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

fn cannot_open(shut: Shut) -> rusqlite::Error {
    match shut {
        Shut::NoKey => fails("what is sealed cannot be opened: its key is missing"),
        Shut::Damaged => UserFunctionError(
            format!("{DOES_NOT_OPEN}what is sealed cannot be opened: it was changed, or belongs to another name, record, column or file").into(),
        ),
    }
}

fn fails(why: impl Into<String>) -> rusqlite::Error {
    UserFunctionError(format!("{FAILS}{}", why.into()).into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[test]
    fn keys_that_nobody_has_are_looked_for_a_few_times_and_again_after_a_new_key() {
        let (seals, asked) = (Seals::default(), Arc::new(AtomicUsize::new(0)));
        let counts = Arc::clone(&asked);
        let key = || SecretKey::from_bytes([1; 32]);
        let find = move |number| {
            counts.fetch_add(1, Ordering::Relaxed);
            (number == 2).then(|| SecretKey::from_bytes([2; 32]))
        };
        seals.are([0; FILE_ID], BTreeMap::from([(1, key())]), Arc::new(find));
        let missing = |from: u32| (from..from + 100).filter(|n| seals.keys().column(*n, "a").is_none()).count();
        assert_eq!((missing(100), asked.load(Ordering::Relaxed)), (100, LOOKED_FOR.into()));
        // Another process made a key, which a transaction tells.
        seals.seal_with(2);
        let current = seals.keys().current;
        assert_eq!((current, missing(300)), (Some(2), 100));
        assert_eq!(asked.load(Ordering::Relaxed), 1 + 2 * usize::from(LOOKED_FOR));
    }
}
