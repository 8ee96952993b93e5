//! The keys of what is sealed in a file: which it has, and how they are found.

#[cfg(feature = "encryption")]
pub(crate) mod encryption;
#[cfg(not(feature = "encryption"))]
#[path = "encryption/none.rs"]
pub(crate) mod encryption;
pub(crate) mod keys;

mod renewing;

pub use renewing::KeyChange;
pub(crate) use renewing::note_copied_keys;

use crate::engine::{Connection, Fault, Moment, Opener, Participant, Seals};
use crate::error::{Cause, Error};
use jiff::Timestamp;
use keys::{KeysInMemory, random};
use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;
use velvet_core::schema::structure::Structure;
use velvet_core::sealing::keys::{KeyKeeper, KeyRefusal};
use velvet_core::sealing::{ColumnSeal, FILE_ID, NONCE, NONCE_AT as HEAD, PlaceText, SealedPlace, SecretKey};
use velvet_core::value::hex;
use velvet_core::value::name::{KEY_COLUMN, quoted};
use velvet_core::{Value, ValueRef};

/// The table of the keys that a file has, which says of each its number, and something that opens with it.
pub(crate) const SEALING: &str = "velvet_sealing";

const CREATE: &str = "CREATE TABLE velvet_sealing (number INTEGER PRIMARY KEY, file_id BLOB NOT NULL, proof BLOB NOT NULL, since TEXT NOT NULL) STRICT";

/// The label under which the proof of a key is sealed.
const PROOF: &str = "velvet_sealing.proof";

/// How the keys of what is sealed are had.
#[derive(Clone, Default)]
pub(crate) struct Sealing {
    keeper: Option<Arc<dyn KeyKeeper>>,
    /// Whether what is sealed is left shut.
    is_left: bool,
    /// Where the keys are for the connections of the file; nothing where nothing can be sealed in it.
    seals: Option<Arc<Seals>>,
    /// Whether all files have the same id, for tests.
    is_fixed: bool,
}

impl Participant for Sealing {
    fn doing(&self, _: Moment) -> &'static str {
        "cannot tell the key of what is sealed"
    }

    /// Sees which key seals: another process may have made one.
    fn begins(&self, connection: &Connection) -> Result<(), Fault> {
        let Some(seals) = self.seals.as_ref().filter(|seals| seals.has_key()) else { return Ok(()) };
        let newest = connection.one("SELECT max(number) FROM velvet_sealing", [], |row| row.integer(0))?;
        if let Some(newest) = newest.and_then(|newest| u32::try_from(newest).ok()) {
            seals.seal_with(newest);
        }
        Ok(())
    }
}

/// Has one key, which everybody knows.
struct FixedKey;

impl KeyKeeper for FixedKey {
    fn find(&self, _: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        Ok(Some(SecretKey::from_bytes([1; 32])))
    }

    fn keep(&self, _: &str, _: &SecretKey) -> Result<(), KeyRefusal> {
        Ok(())
    }

    fn forget(&self, _: &str) -> Result<(), KeyRefusal> {
        Ok(())
    }
}

/// Keys that are found and never changed; those that are made are gone with it.
#[cfg(feature = "inspect")]
struct Lent {
    keys: Option<Arc<dyn KeyKeeper>>,
    made: KeysInMemory,
}

#[cfg(feature = "inspect")]
impl KeyKeeper for Lent {
    fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        match self.made.find(name)? {
            None => self.keys.as_ref().map_or(Ok(None), |keys| keys.find(name)),
            made => Ok(made),
        }
    }

    fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal> {
        self.made.keep(name, key)
    }

    fn forget(&self, name: &str) -> Result<(), KeyRefusal> {
        self.made.forget(name)
    }
}

impl fmt::Debug for Sealing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Sealing").field("has_keeper", &self.keeper.is_some()).field("is_left", &self.is_left).finish()
    }
}

/// A column whose values are sealed.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SealedIn<'s> {
    pub(crate) table: &'s str,
    pub(crate) column: &'s str,
    pub(crate) label: &'s str,
    /// The column that they are bound to, where they are named values.
    pub(crate) name: Option<&'s str>,
}

impl SealedIn<'_> {
    /// The place of a value of it, in a statement that reads no other table.
    fn place(&self) -> PlaceText {
        PlaceText { row: quoted(KEY_COLUMN), name: self.name.map(quoted) }
    }
}

/// The columns whose values are sealed.
pub(crate) fn sealed_columns(structure: &Structure) -> impl Iterator<Item = SealedIn<'_>> {
    let columns = structure.tables.iter().flat_map(|t| t.columns.iter().map(move |c| (t, c)));
    columns.filter_map(|(t, c)| {
        let name = t.sealed_by_name().map(|(name, _)| name.name.as_str());
        Some(SealedIn { table: &t.name, column: &c.name, label: c.seal()?, name })
    })
}

impl Sealing {
    pub(crate) fn by(&mut self, keeper: impl KeyKeeper) {
        self.keeper = Some(Arc::new(keeper));
    }

    pub(crate) fn leave(&mut self) {
        self.is_left = true;
    }

    /// For an upgrade that is only tried: what is sealed is opened with `keys`, and left shut where there are none; what it would seal is sealed with a key that
    /// is gone afterwards.
    #[cfg(feature = "inspect")]
    pub(crate) fn trying(structure: &Structure, keys: Option<Arc<dyn KeyKeeper>>) -> Result<Sealing, Error> {
        let mut trying = Sealing { is_left: keys.is_none(), ..Sealing::default() };
        trying.by(Lent { keys, made: KeysInMemory::default() });
        trying.prepare(structure)?;
        Ok(trying)
    }

    /// For the tests of an app: rows that are sealed are kept from one run to the next, so the key is the same.
    pub(crate) fn fix(&mut self) {
        self.by(FixedKey);
        self.is_fixed = true;
    }

    /// As [`Sealing::fix`], for a file with this structure.
    #[cfg(feature = "inspect")]
    pub(crate) fn with_fixed_key(structure: &Structure) -> Result<Sealing, Error> {
        let mut sealing = Sealing::default();
        sealing.fix();
        sealing.prepare(structure)?;
        Ok(sealing)
    }

    /// For what is gone with the process.
    pub(crate) fn in_memory(&mut self) {
        self.keeper.get_or_insert_with(|| Arc::new(KeysInMemory::default()));
    }

    /// Makes room for the keys of a file with this structure.
    pub(crate) fn prepare(&mut self, structure: &Structure) -> Result<(), Error> {
        let first = sealed_columns(structure).next();
        if let (Some(SealedIn { table, column, .. }), None, false) = (first, &self.keeper, self.is_left) {
            let problem = format!("`{table}.{column}` is sealed, and nothing says where the key is kept");
            let advice = "Hand in where the device keeps keys with Options::keys; or leave shut what is sealed with Options::leave_sealed";
            let error = Error::new(Cause::Schema, format!("cannot open the drawer: {problem}"));
            return Err(error.untouched("No file was touched").advise(advice));
        }
        let names = sealed_columns(structure).filter_map(|s| Some((s.table.to_owned(), s.name?.to_owned())));
        let is_needed = first.is_some() || self.keeper.is_some();
        self.seals = is_needed.then(|| Arc::new(Seals::bound_to(names)));
        Ok(())
    }

    /// Whether what is sealed can be opened.
    pub(crate) fn has_key(&self) -> bool {
        self.seals.as_ref().is_some_and(|seals| seals.has_key())
    }

    pub(crate) fn seals(&self) -> Option<Arc<Seals>> {
        self.seals.clone()
    }

    /// Finds the keys of a file, and sees that they are its own.
    pub(crate) fn find(&self, connection: &Connection, app: &str) -> Result<(), Error> {
        match self.found(connection, app) {
            Err(_) if self.is_left => Ok(()),
            found => found,
        }
    }

    /// As [`Sealing::find`], where the file has any; says whether it has.
    pub(crate) fn find_if_any(&self, connection: &Connection, app: &str) -> Result<bool, Error> {
        let has_any = self.seals.is_some() && connection.has(SEALING)?;
        if has_any {
            self.find(connection, app)?;
        }
        Ok(has_any)
    }

    /// As [`Sealing::find_if_any`], of a file that may be written. Where the key is not there and nothing is sealed yet, as in a file that came with the app, it
    /// gets a new one.
    pub(crate) fn find_or_replace(
        &self,
        connection: &Connection,
        app: &str,
        structure: &Structure,
    ) -> Result<bool, Error> {
        match self.find_if_any(connection, app) {
            Err(error) if error.is_key_missing() && self.is_nothing_lost(connection, app, structure)? => {
                let transaction = (!connection.is_in_transaction()).then(|| connection.transaction()).transpose()?;
                connection.run("DELETE FROM velvet_sealing")?;
                self.make(connection, app)?;
                transaction.map_or(Ok(()), |transaction| transaction.commit())?;
                Ok(true)
            }
            found => found,
        }
    }

    /// As [`Sealing::find_or_replace`]; makes a key where a file that was taken over, or of which somebody removed them, has none.
    pub(crate) fn find_or_begin(
        &self,
        connection: &Connection,
        app: &str,
        structure: &Structure,
    ) -> Result<bool, Error> {
        let has_any = self.find_or_replace(connection, app, structure)?;
        if !has_any && self.keeper.is_some() && sealed_columns(structure).next().is_some() {
            let transaction = connection.transaction()?;
            self.begin(connection, app, structure, structure)?;
            transaction.commit()?;
        }
        Ok(has_any)
    }

    /// As [`Sealing::find_or_replace`], of a file that has the structure `from`; makes a key where there is none yet and `structure` needs one. Inside a
    /// transaction: a key is kept before the file knows of it.
    pub(crate) fn begin(
        &self,
        connection: &Connection,
        app: &str,
        from: &Structure,
        structure: &Structure,
    ) -> Result<(), Error> {
        if self.find_or_replace(connection, app, from)? || sealed_columns(structure).next().is_none() {
            return Ok(());
        }
        if self.keeper.is_some() {
            connection.run(CREATE)?;
        }
        self.make(connection, app)
    }

    /// For an upgrade through versions that seal to one that does not: what they seal is not sealed any more at the end, so their key is gone then.
    pub(crate) fn pass_through(&self, connection: &Connection) -> Result<(), Error> {
        let has_any = connection.has(SEALING)?;
        if has_any && self.has_key() {
            return Ok(());
        }
        let passing = Seals::default();
        if !has_any {
            let keys = BTreeMap::from([(1, SecretKey::from_bytes(random()?))]);
            passing.are(random()?, keys, Arc::new(|_| None));
        }
        Ok(connection.seal_with(&Arc::new(passing))?)
    }

    /// Makes the first key of a file.
    fn make(&self, connection: &Connection, app: &str) -> Result<(), Error> {
        let (Some(keeper), Some(seals)) = (&self.keeper, &self.seals) else { return Ok(()) };
        let file_id: [u8; FILE_ID] = if self.is_fixed { [0; FILE_ID] } else { random()? };
        let key = new_key(connection, keeper, app, (file_id, 1))?;
        seals.are(file_id, BTreeMap::from([(1, key)]), finder(connection, keeper, app));
        Ok(())
    }

    /// Whether the keeper knows none of the file's keys, and nothing is sealed with them.
    fn is_nothing_lost(&self, connection: &Connection, app: &str, structure: &Structure) -> Result<bool, Error> {
        let Some(keeper) = &self.keeper else { return Ok(false) };
        let is_unknown = |row: &Row| row.names(app).iter().all(|name| keeper.find(name) == Ok(None));
        if !rows(connection)?.iter().all(is_unknown) {
            return Ok(false);
        }
        for SealedIn { table, column, .. } in sealed_columns(structure) {
            let text = format!("SELECT 1 FROM {} WHERE {} IS NOT NULL LIMIT 1", quoted(table), quoted(column));
            if connection.one(&text, [], |_| ())?.is_some() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn found(&self, connection: &Connection, app: &str) -> Result<(), Error> {
        let (Some(keeper), Some(seals)) = (&self.keeper, &self.seals) else { return Ok(()) };
        let mut keys = BTreeMap::new();
        let rows = rows(connection)?;
        let Some(Row { file_id, .. }) = rows.last() else {
            let problem = "the file does not say which key its sealed columns have: `velvet_sealing` is empty";
            return Err(Error::bare(Cause::Damaged, problem).advise("Take it from a copy of the file"));
        };
        for row in &rows {
            keys.insert(row.number, row.key(keeper, app)?);
        }
        seals.are(*file_id, keys, finder(connection, keeper, app));
        Ok(())
    }
}

/// A key that a file has.
struct Row {
    number: u32,
    file_id: [u8; FILE_ID],
    proof: Vec<u8>,
}

impl Row {
    /// The names by which its keeper may know it: its own, and the one that earlier versions of the library gave, which copies of a file have in common.
    fn names(&self, app: &str) -> [String; 2] {
        let nonce = self.proof.get(HEAD..HEAD + NONCE).unwrap_or_default();
        [own_name(app, &self.file_id, self.number, nonce), name(app, &self.file_id, self.number)]
    }

    /// The name by which its keeper does know it.
    fn known_name(&self, keeper: &Arc<dyn KeyKeeper>, app: &str) -> Result<Option<String>, Error> {
        for name in self.names(app) {
            if keys::found(&**keeper, &name)?.is_some() {
                return Ok(Some(name));
            }
        }
        Ok(None)
    }

    /// The key itself, where it is this one.
    fn key(&self, keeper: &Arc<dyn KeyKeeper>, app: &str) -> Result<SecretKey, Error> {
        let known = self.known_name(keeper, app)?;
        let name = known.clone().unwrap_or_else(|| self.names(app)[0].clone());
        let Some(key) = known.and_then(|name| keys::found(&**keeper, &name).transpose()).transpose()? else {
            let problem =
                format!("the key of the sealed values is missing: its keeper knows none by the name {name:?}");
            return Err(Error::bare(Cause::KeyMissing, problem).advise(
                "If the keys were lost, as after a move to another device, what is sealed cannot be read again; open with Options::leave_sealed for \
                 the rest",
            ));
        };
        match ColumnSeal::new(&key, self.number, &self.file_id, PROOF).open(&self.proof, place_of_proof(self.number)) {
            Some(_) => Ok(key),
            None => {
                let problem = format!(
                    "the key that its keeper has by the name {name:?} does not open what is sealed: it is another key, or the proof in the file is \
                     damaged, which cannot be told apart"
                );
                Err(Error::bare(Cause::WrongKey, problem).advise(
                    "Hand in the keeper that the file was made with; or open with Options::leave_sealed for the rest",
                ))
            }
        }
    }
}

fn rows(connection: &Connection) -> Result<Vec<Row>, Error> {
    let text = "SELECT number, file_id, proof FROM velvet_sealing ORDER BY number";
    Ok(connection.list(text, [], |row| {
        let bytes = |at| if let Value::Bytes(bytes) = row.value(at).to_value() { bytes } else { Vec::new() };
        let number = u32::try_from(row.integer(0)).unwrap_or_default();
        Row { number, file_id: bytes(1).try_into().unwrap_or_default(), proof: bytes(2) }
    })?)
}

/// The place of the proof of the key with a number.
fn place_of_proof(number: u32) -> SealedPlace<'static> {
    SealedPlace { row: i64::from(number), name: None }
}

/// Makes a key, keeps it, and notes it in the file.
fn new_key(
    connection: &Connection,
    keeper: &Arc<dyn KeyKeeper>,
    app: &str,
    (file_id, number): ([u8; FILE_ID], u32),
) -> Result<SecretKey, Error> {
    let nonce: [u8; NONCE] = random()?;
    let key = keys::made(&**keeper, &own_name(app, &file_id, number, &nonce))?;
    let proof = ColumnSeal::new(&key, number, &file_id, PROOF).seal(b"", place_of_proof(number), nonce);
    let text = "INSERT INTO velvet_sealing (number, file_id, proof, since) VALUES (?1, ?2, ?3, ?4)";
    let since = format!("{:.9}", Timestamp::now());
    connection.execute(
        text,
        [i64::from(number).into(), ValueRef::Bytes(&file_id), ValueRef::Bytes(&proof), (&since).into()],
    )?;
    Ok(key)
}

/// The name by which a keeper knows a key: that of no other, because it has some of the chance that is in the key's proof. The number alone is the same in copies of a file.
fn own_name(app: &str, file_id: &[u8; FILE_ID], number: u32, nonce: &[u8]) -> String {
    let chance = hex::hex(nonce.get(..CHANCE).unwrap_or_default());
    format!("{}-{chance}", name(app, file_id, number))
}

/// How many bytes of chance a name has.
const CHANCE: usize = 8;

/// The name that earlier versions of the library gave to a key.
fn name(app: &str, file_id: &[u8; FILE_ID], number: u32) -> String {
    format!("{app}/{}/{number}", hex::hex(file_id))
}

/// Finds a key that another process has made since: the file says by which name its keeper knows it.
fn finder(connection: &Connection, keeper: &Arc<dyn KeyKeeper>, app: &str) -> Arc<crate::engine::Find> {
    let (place, keeper, app) = (connection.place(), Arc::clone(keeper), app.to_owned());
    Arc::new(move |number| {
        let rows = rows(&Opener::new(place.as_ref()?).reader().ok()?).ok()?;
        rows.iter().find(|row| row.number == number)?.key(&keeper, &app).ok()
    })
}
