//! Reading what changed.

use super::line::Line;
use crate::drawer::{Drawer, Scope};
use crate::engine::Fault;
use crate::error::{Cause, Error};
use crate::query::{stored, unreadable};
use crate::schema::about::About;
use std::fmt;
use std::io::Write;
use velvet_core::schema::structure::Table;
use velvet_core::statement::CHANGES;
use velvet_core::value::name::{KEY_COLUMN, quoted};
use velvet_core::{ColumnType, Keyed, Shared, Stored, Value, ValueRef};

/// How far changes were seen: every change gets a later one. An app keeps it as a number.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Position(i64);

impl Position {
    /// Before all changes.
    pub const START: Position = Position(0);

    /// The position with this number.
    pub const fn from_number(number: i64) -> Position {
        Position(number)
    }

    /// The number, to be kept.
    pub const fn number(self) -> i64 {
        self.0
    }
}

/// A record as it is after its last change, or that it was removed.
pub enum Changed<T: Keyed> {
    /// It was inserted or changed, and is stored like this.
    Written(Stored<T>),
    /// The record with this own key was removed.
    Removed(<T::OwnKey as ColumnType>::Value),
}

impl<T: Keyed + fmt::Debug> fmt::Debug for Changed<T>
where
    <T::OwnKey as ColumnType>::Value: fmt::Debug,
{
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Changed::Written(stored) => write!(f, "written: {stored:?}"),
            Changed::Removed(own_key) => write!(f, "removed: {own_key:?}"),
        }
    }
}

/// What changed since a position.
#[must_use = "changes are read when they are asked for"]
pub struct ChangesSince<'a> {
    drawer: &'a Drawer,
    position: Position,
}

impl Drawer {
    /// What changed in shared records since a position, in the order of the commits: each record once, at its last change.
    ///
    /// Only records with `#[record(shared)]` are kept track of.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// use velvet_drawer::{Changed, Position};
    ///
    /// #[derive(Record)]
    /// #[record(shared)]
    /// struct Piece { #[record(own_key)] mark: String, grams: u32 }
    ///
    /// # let schema = || Schema::new("kilnbook").record::<Piece>();
    /// # let drawer = Drawer::in_memory(schema())?;
    /// let bowl = drawer.insert(Piece { mark: "K-1".into(), grams: 640 })?;
    /// let mut lines = Vec::new();
    /// let position = drawer.changes_since(Position::START).write_json_lines(&mut lines)?;
    /// drawer.mark_sent("the other phone", position)?;
    ///
    /// let other = Drawer::in_memory(schema())?;
    /// other.apply_changes(lines.as_slice()).run()?;
    /// assert_eq!(other.get_by_own_key::<Piece>("K-1")?.unwrap().grams, 640);
    ///
    /// drawer.remove(bowl.key())?;
    /// let news = drawer.changes_since(drawer.sent("the other phone")?).of::<Piece>()?;
    /// assert!(matches!(&news[..], [Changed::Removed(mark)] if mark == "K-1"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn changes_since(&self, position: Position) -> ChangesSince<'_> {
        ChangesSince { drawer: self, position }
    }

    /// How far changes were marked as sent to somebody; [`Position::START`] where none were.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn sent(&self, to: &str) -> Result<Position, Error> {
        let doing = || "cannot read what was sent";
        let fact = self.inner.reading(|scope| scope.doing(doing, || Ok(About::fact(scope.connection, &fact(to))?)))?;
        Ok(Position(fact.and_then(|number| number.parse().ok()).unwrap_or(0)))
    }

    /// Remembers how far changes were sent to somebody: once they have arrived.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn mark_sent(&self, to: &str, position: Position) -> Result<(), Error> {
        self.inner.transaction(|scope| {
            let position = position.number().to_string();
            scope.doing(
                || "cannot remember what was sent",
                || Ok(About::remember(scope.connection, &fact(to), &position)?),
            )
        })
    }
}

/// The name under which the file remembers what was sent.
fn fact(to: &str) -> String {
    format!("sent {to}")
}

impl ChangesSince<'_> {
    /// The changes of one type of record.
    ///
    /// # Errors
    /// When the file cannot be read, or a stored value is not one of its field's type.
    pub fn of<T: Shared>(self) -> Result<Vec<Changed<T>>, Error> {
        let (table, own_key) = (quoted(T::TABLE), quoted(T::COLUMNS[T::OWN_KEY_POSITION]));
        let names = std::iter::once(KEY_COLUMN).chain(T::COLUMNS.iter().copied());
        let columns: Vec<String> = names.map(|name| format!("{table}.{}", quoted(name))).collect();
        let text = format!(
            "SELECT {}, c.own_key FROM {CHANGES} AS c LEFT JOIN {table} ON {table}.{own_key} = c.own_key \
             WHERE c.table_name = ?1 AND c.position > ?2 ORDER BY c.position",
            columns.join(", ")
        );
        self.drawer.inner.reading(|scope| {
            scope.doing(doing, || {
                let mut all = Vec::new();
                scope.connection.rows(&text, [T::TABLE.into(), self.position.0.into()], |row| {
                    if row.value(0) != ValueRef::Missing {
                        all.push(Changed::Written(stored(row)?));
                        return Ok(());
                    }
                    let own_key = T::OwnKey::load(row.column(T::COLUMNS.len()));
                    let own_key = own_key.map_err(|misfit| unreadable::<T>(misfit.at(T::OWN_KEY_POSITION)))?;
                    all.push(Changed::Removed(own_key));
                    Ok::<_, Error>(())
                })?;
                Ok(all)
            })
        })
    }

    /// Writes the changes of all shared records as JSON Lines, as `docs/changes-format.md` describes them, and says how far they go.
    ///
    /// # Errors
    /// When no record is shared, the file cannot be read, or `out` cannot be written.
    pub fn write_json_lines(self, out: &mut impl Write) -> Result<Position, Error> {
        self.drawer.inner.viewing(|scope| {
            let structure = &scope.inner.declared.structure;
            let tables: Vec<&Table> = structure.tables.iter().filter(|t| t.shared).collect();
            scope.doing(doing, || {
                refuse_if_none_is_shared(&tables)?;
                let mut upto = self.position;
                for (position, table_name, own_key, at) in entries(scope, self.position)? {
                    upto = Position(position);
                    let Some(table) = tables.iter().find(|t| t.name == table_name) else { continue };
                    let line = Line::read(scope, table, own_key, at)?;
                    writeln!(out, "{}", line.to_json(structure, table))
                        .map_err(|error| Error::device("cannot write the changes", &error))?;
                }
                Ok(upto)
            })
        })
    }
}

pub(super) fn refuse_if_none_is_shared(tables: &[&Table]) -> Result<(), Error> {
    if !tables.is_empty() {
        return Ok(());
    }
    let error = Error::new(Cause::Schema, "no changes are kept, because no record is shared");
    Err(error.advise("Write #[record(shared)] on the structs whose changes are to be kept"))
}

/// An entry: its position, table, own key and moment.
type ChangeRow = (i64, String, Value, String);

fn entries(scope: Scope<'_>, since: Position) -> Result<Vec<ChangeRow>, Fault> {
    let text = format!("SELECT position, table_name, own_key, at FROM {CHANGES} WHERE position > ?1 ORDER BY position");
    scope.connection.list(&text, [since.0.into()], |row| {
        (row.integer(0), row.text(1).to_owned(), row.value(2).to_value(), row.text(3).to_owned())
    })
}

fn doing() -> &'static str {
    "cannot read what changed"
}
