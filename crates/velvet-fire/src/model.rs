//! What is written under fire, and the plain list in memory that it is compared with.

use rusqlite::{Connection, OpenFlags};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use velvet_drawer::{Drawer, Error, Key, Record, Schema, Tx};

/// A piece of pottery: words that are searched, a unique mark, a link, and changes that are shared.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
pub(crate) struct Piece {
    #[record(own_key)]
    mark: String,
    #[record(indexed)]
    grams: i64,
    #[record(searchable)]
    remarks: String,
    #[record(link(on_delete = clear))]
    glaze: Option<Key<Glaze>>,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
pub(crate) struct Glaze {
    #[record(own_key)]
    name: String,
}

pub(crate) fn schema() -> Schema {
    Schema::new("fire").record::<Piece>().record::<Glaze>()
}

/// A piece as the list has it: grams, remarks, and the name of its glaze.
type Listed = (i64, String, Option<String>);

/// All that a file should hold.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Model {
    pub(crate) pieces: BTreeMap<String, Listed>,
    pub(crate) glazes: BTreeSet<String>,
}

/// One change, which is one transaction.
pub(crate) enum Change {
    Insert(Vec<(String, Listed)>),
    Set { mark: String, grams: i64, remarks: String },
    Remove(String),
    NewGlaze { name: String, mark: String, remarks: String },
    RemoveGlaze(String),
    Refresh(Vec<(String, Listed)>),
}

impl Model {
    /// The change that comes after `done` others, by this seed.
    pub(crate) fn change(&self, seed: u64, done: u64) -> Change {
        let mut chance = fastrand::Rng::with_seed(seed ^ done.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let length = if chance.u32(..8) == 0 { 3_000 } else { 20 };
        let remarks = format!("round {done} {}", "clay ".repeat(chance.usize(..length) / 5));
        let known = chance.choice(self.pieces.keys().cloned().collect::<Vec<_>>());
        let piece = |n: u64| (format!("K-{done}-{n}"), (n as i64 * 7 - 3, remarks.clone(), None));
        match (chance.u32(..12), known) {
            (0..=3, _) | (_, None) => Change::Insert((0..chance.u64(1..4)).map(piece).collect()),
            (4, _) => Change::Insert((0..40).map(piece).collect()),
            (5..=7, Some(mark)) => Change::Set { mark, grams: chance.i64(-1_000_000..1_000_000), remarks },
            (8, Some(mark)) => Change::Remove(mark),
            (9, Some(_)) => Change::NewGlaze { name: format!("G-{done}"), mark: format!("K-{done}-g"), remarks },
            (10, Some(_)) => match chance.choice(&self.glazes) {
                Some(name) => Change::RemoveGlaze(name.clone()),
                None => Change::Insert(vec![piece(0)]),
            },
            (_, Some(_)) => {
                let known = self
                    .pieces
                    .iter()
                    .take(10)
                    .map(|(mark, (grams, ..))| (mark.clone(), (grams + 1, remarks.clone(), None)));
                Change::Refresh(known.chain((0..3).map(piece)).collect())
            }
        }
    }

    /// Makes the change in the list.
    pub(crate) fn apply(&mut self, change: &Change) {
        match change {
            Change::Insert(pieces) | Change::Refresh(pieces) => self.pieces.extend(pieces.iter().cloned()),
            Change::Set { mark, grams, remarks } => {
                if let Some(piece) = self.pieces.get_mut(mark) {
                    (piece.0, piece.1) = (*grams, remarks.clone());
                }
            }
            Change::Remove(mark) => drop(self.pieces.remove(mark)),
            Change::NewGlaze { name, mark, remarks } => {
                self.glazes.insert(name.clone());
                self.pieces.insert(mark.clone(), (1, remarks.clone(), Some(name.clone())));
            }
            Change::RemoveGlaze(name) => {
                self.glazes.remove(name);
                self.pieces.values_mut().filter(|p| p.2.as_ref() == Some(name)).for_each(|p| p.2 = None);
            }
        }
    }

    /// Makes the first changes by a seed.
    pub(crate) fn after(seed: u64, done: u64) -> Model {
        let mut model = Model::default();
        for n in 0..done {
            let change = model.change(seed, n);
            model.apply(&change);
        }
        model
    }

    /// What a file holds, read by the engine itself.
    pub(crate) fn read(path: &Path) -> rusqlite::Result<Model> {
        let file = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        let mut pieces = file
            .prepare("SELECT p.mark, p.grams, p.remarks, g.name FROM piece p LEFT JOIN glaze g ON g.key = p.glaze")?;
        let piece = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, (row.get(1)?, row.get(2)?, row.get(3)?)));
        let pieces = pieces.query_map([], piece)?.collect::<rusqlite::Result<_>>()?;
        let mut glazes = file.prepare("SELECT name FROM glaze")?;
        let glazes = glazes.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
        let sound: String = file.query_row("PRAGMA integrity_check", [], |row| row.get(0))?;
        assert_eq!(sound, "ok", "the engine's own check");
        Ok(Model { pieces, glazes })
    }
}

impl Change {
    /// Makes the change in a drawer, in one transaction.
    pub(crate) fn write(&self, drawer: &Drawer) -> Result<(), Error> {
        if let Change::Refresh(pieces) = self {
            return drawer.refresh(pieces.iter().map(record)).run().map(drop);
        }
        drawer.write(|tx| self.within(tx))
    }

    fn within(&self, tx: &Tx<'_>) -> Result<(), Error> {
        match self {
            Change::Insert(pieces) | Change::Refresh(pieces) => tx.insert_all(pieces.iter().map(record)).map(drop),
            Change::Set { mark, grams, remarks } => {
                let pieces = tx.records::<Piece>().filter(|p| p.mark.is(mark));
                pieces.update(|p| (p.grams.set(*grams), p.remarks.set(remarks))).map(drop)
            }
            Change::Remove(mark) => tx.records::<Piece>().filter(|p| p.mark.is(mark)).remove().map(drop),
            Change::NewGlaze { name, mark, remarks } => {
                let glaze = tx.insert(Glaze { name: name.clone() })?;
                let piece = record(&(mark.clone(), (1, remarks.clone(), None)));
                tx.insert(Piece { glaze: Some(glaze.key()), ..piece }).map(drop)
            }
            Change::RemoveGlaze(name) => tx.records::<Glaze>().filter(|g| g.name.is(name)).remove().map(drop),
        }
    }
}

pub(crate) fn glaze(name: &str) -> Glaze {
    Glaze { name: name.to_owned() }
}

fn record((mark, (grams, remarks, _)): &(String, Listed)) -> Piece {
    Piece { mark: mark.clone(), grams: *grams, remarks: remarks.clone(), glaze: None }
}

/// Makes a drawer that holds the first changes by a seed.
pub(crate) fn make(path: &Path, seed: u64, done: u64) -> Result<Model, Error> {
    let drawer = Drawer::options().relaxed().open(path, schema())?;
    let mut model = Model::default();
    for n in 0..done {
        let change = model.change(seed, n);
        change.write(&drawer)?;
        model.apply(&change);
    }
    drawer.close()?;
    Ok(model)
}
