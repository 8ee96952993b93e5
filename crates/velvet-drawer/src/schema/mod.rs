//! What an app keeps: its records, declared in one place.

pub(crate) mod about;
pub(crate) mod attachment;

mod code;

pub(crate) use code::Code;
pub use code::{CodeRow, Upgrade};

use crate::engine::Row;
use crate::error::{Cause, Error};
use crate::schema::attachment::{Attachment, Part};
use crate::sealing::Sealing;
use std::borrow::Cow;
use velvet_core::evolve::{History, HistoryHead};
use velvet_core::named::named_value::NamedStatements;
use velvet_core::named::settings::{SettingField, SettingPlace};
use velvet_core::schema::fingerprint;
use velvet_core::schema::hints::Hints;
use velvet_core::schema::structure::{ATTACHMENT, ATTACHMENT_PART, Structure, Table};
use velvet_core::{Misfit, NamedValue, Record, Settings, ValueRef};

/// The records of an app, and the app they belong to.
///
/// ```
/// use velvet_drawer::{Key, Record, Schema};
///
/// #[derive(Record)]
/// struct Glaze { name: String }
///
/// #[derive(Record)]
/// struct Piece { mark: String, glaze: Option<Key<Glaze>> }
///
/// pub fn schema() -> Schema {
///     Schema::new("kilnbook").record::<Glaze>().record::<Piece>()
/// }
///
/// schema().check().unwrap();
/// ```
#[derive(Clone, Debug)]
pub struct Schema {
    app: String,
    tables: Vec<Table>,
    misfits: Vec<(&'static str, &'static [&'static str], Misfit)>,
    hints: Vec<(&'static str, Hints)>,
    history: Option<Cow<'static, str>>,
    codes: Vec<(String, Code)>,
    types: Vec<RecordType>,
    sealed_settings: Vec<SealedSettings>,
}

/// What is known of a record's Rust type where only its table is.
#[derive(Clone, Copy, Debug)]
pub(crate) struct RecordType {
    pub(crate) table: &'static str,
    pub(crate) columns: &'static [&'static str],
    /// Reads all records: the key, then all columns.
    pub(crate) select: &'static str,
    /// Sees that a stored value is one of the type of a column.
    pub(crate) fits: fn(usize, ValueRef<'_>) -> Result<(), Misfit>,
    /// Sees that a row, which begins with the key, is a record of the type.
    pub(crate) is_readable: fn(Row<'_, '_>) -> Result<(), Misfit>,
}

/// Settings of which some fields are sealed one by one, or were.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SealedSettings {
    pub(crate) fields: &'static [SettingField],
    /// Where the other fields are.
    pub(crate) others: SettingsTable,
    /// Where the sealed ones are.
    pub(crate) sealed: SettingsTable,
}

/// A table of settings.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SettingsTable {
    pub(crate) name: &'static str,
    /// Whether all that is in it is sealed.
    pub(crate) is_sealed: bool,
    pub(crate) statements: &'static NamedStatements,
}

impl SettingsTable {
    fn of<T: NamedValue>() -> SettingsTable {
        SettingsTable { name: T::TABLE, is_sealed: !T::SEALED.is_empty(), statements: T::named_statements() }
    }
}

/// A schema that was found sound.
#[derive(Clone, Debug)]
pub(crate) struct Declared {
    pub(crate) app: String,
    pub(crate) version: u32,
    pub(crate) structure: Structure,
    pub(crate) fingerprint: String,
    pub(crate) history: Option<Cow<'static, str>>,
    pub(crate) codes: Vec<(String, Code)>,
    pub(crate) types: Vec<RecordType>,
    pub(crate) sealed_settings: Vec<SealedSettings>,
    /// The version of the app itself, where it says.
    pub(crate) app_version: Option<String>,
    /// How the keys of what is sealed are had.
    pub(crate) sealing: Sealing,
}

/// The version of a schema that has never changed.
const FIRST_VERSION: u32 = 1;

impl Schema {
    /// A schema without records, of the app with this name. The name is kept in the file, so that one app's file is
    /// not taken for another's.
    pub fn new(app: impl Into<String>) -> Schema {
        Schema {
            app: app.into(),
            tables: Vec::new(),
            misfits: Vec::new(),
            hints: Vec::new(),
            history: None,
            codes: Vec::new(),
            types: Vec::new(),
            sealed_settings: Vec::new(),
        }
    }

    /// Adds the table of a record. The order in which records are added does not matter.
    #[must_use]
    pub fn record<T: Record>(mut self) -> Schema {
        self.hints.push((T::TABLE, T::HINTS));
        let is_readable = |mut row: Row<'_, '_>| T::load(&mut row).map(drop);
        self.types.push(RecordType {
            table: T::TABLE,
            columns: T::COLUMNS,
            select: &T::statements().select,
            fits: T::fits,
            is_readable,
        });
        match T::table() {
            Ok(table) => self.tables.push(table),
            Err(misfit) => self.misfits.push((T::TABLE, T::COLUMNS, misfit)),
        }
        self
    }

    /// Adds the table of settings, and that of their sealed fields; see [`SettingsOf`](crate::SettingsOf).
    #[must_use]
    pub fn settings<S: Settings>(self) -> Schema {
        let mut schema = self.record::<S::Setting>();
        if S::HAS_SEALED_FIELDS {
            let (others, sealed) = (SettingsTable::of::<S::Setting>(), SettingsTable::of::<S::SealedSetting>());
            schema.sealed_settings.push(SealedSettings { fields: S::FIELDS, others, sealed });
            schema = schema.record::<S::SealedSetting>();
        }
        schema
    }

    /// Adds the tables of attachments; see [`Attachment`](crate::Attachment).
    #[must_use]
    pub fn attachments(self) -> Schema {
        self.record::<Attachment>().record::<Part>()
    }

    /// As [`Schema::attachments`], of which names and contents are private: they stay out of trails, and of copies made without what is private, in which
    /// attachments are there and empty.
    #[must_use]
    pub fn private_attachments(self) -> Schema {
        let mut schema = self.attachments();
        let tables =
            schema.tables.iter_mut().filter(|table| [ATTACHMENT, ATTACHMENT_PART].contains(&table.name.as_str()));
        for column in tables.flat_map(|table| &mut table.columns) {
            column.private = ["name", "bytes", "hash"].contains(&column.name.as_str());
        }
        schema
    }

    /// Names the history of the schema, which is checked in beside the code:
    /// `.history(include_str!("../kilnbook.history.json"))`. None is needed until the first version is recorded; see
    /// [`crate::testing::history_is_current`].
    #[must_use]
    #[doc(alias = "migration")]
    #[doc(alias = "migrations")]
    pub fn history(mut self, text: &'static str) -> Schema {
        self.history = Some(Cow::Borrowed(text));
        self
    }

    /// Registers code that a version of the history runs in its upgrade, under its name there.
    #[must_use]
    pub fn code(
        mut self,
        name: impl Into<String>,
        code: impl Fn(&Upgrade<'_>) -> Result<(), Error> + Send + Sync + 'static,
    ) -> Schema {
        self.codes.push((name.into(), Code::new(code)));
        self
    }

    /// Checks what can only be seen of the whole: names used twice, links to records that were not added, defaults
    /// that no column can hold. Opening a drawer does the same; call this in a test.
    ///
    /// # Errors
    /// With every problem in one message ([`Error::is_schema`]).
    pub fn check(&self) -> Result<(), Error> {
        self.clone().declared().map(drop)
    }

    /// The schema as it is declared, whatever its history says.
    pub(crate) fn sound(mut self) -> Result<Declared, Error> {
        let structure = Structure { tables: std::mem::take(&mut self.tables) };
        let mut problems = structure.problems();
        for (table, columns, misfit) in &self.misfits {
            let column = misfit.column.map_or("", |at| columns[at]);
            problems.push(format!("the default of `{table}.{column}`: {misfit}"));
        }
        if self.app.is_empty() {
            problems.push("the app has no name; give one to Schema::new".into());
        }
        if structure.tables.is_empty() && problems.is_empty() {
            problems.push("there is no record; add each with `.record::<…>()`".into());
        }
        if !problems.is_empty() {
            return Err(unsound(&self.app, &problems.join("; ")));
        }
        Ok(Declared {
            app: self.app,
            version: FIRST_VERSION,
            fingerprint: fingerprint::of(&structure),
            structure,
            history: self.history,
            codes: self.codes,
            types: self.types,
            sealed_settings: self.sealed_settings,
            app_version: None,
            sealing: Sealing::default(),
        })
    }

    /// The schema as it is declared, with the version that its history gives it.
    pub(crate) fn declared(self) -> Result<Declared, Error> {
        let mut declared = self.sound()?;
        let Some(text) = &declared.history else { return Ok(declared) };
        let head = HistoryHead::parse(text).map_err(|problem| unsound(&declared.app, &problem.to_string()))?;
        if head.app != declared.app {
            return Err(unsound(&declared.app, &format!("its history is that of {:?}", head.app)));
        }
        if head.fingerprint != declared.fingerprint {
            return Err(unsound(&declared.app, "it is not what its history says of the newest version").advise(
                "Run `cargo test`: testing::history_is_current says what differs, and `VELVET_HISTORY=record cargo test` records it",
            ));
        }
        declared.version = head.newest;
        Ok(declared)
    }

    /// Takes the text of its history away, where it has one.
    pub(crate) fn without_history(&mut self) -> Option<Cow<'static, str>> {
        self.history.take()
    }

    pub(crate) fn hints(&self) -> &[(&'static str, Hints)] {
        &self.hints
    }
}

impl Declared {
    /// Sees that a stored value is one of its column's type, where the column is declared.
    pub(crate) fn fits(&self, table: &str, column: &str, value: ValueRef<'_>) -> Result<(), Misfit> {
        let Some(of) = self.types.iter().find(|t| t.table == table) else { return Ok(()) };
        of.columns.iter().position(|c| *c == column).map_or(Ok(()), |at| (of.fits)(at, value))
    }

    /// Whether nobody but a program that does not seal can have stored a field in the clear, in the table `others`: no version of the app has done so.
    pub(crate) fn must_be_sealed(&self, field: &SettingField, others: &str, sealed: &str) -> bool {
        let had_none = |history: History| history.had_without(others, sealed);
        let is_seen_in = |text: &str| History::parse(text).is_ok_and(had_none);
        field.place == SettingPlace::Sealed && !field.was_clear && !self.history.as_deref().is_some_and(is_seen_in)
    }
}

fn unsound(app: &str, why: &str) -> Error {
    Error::new(Cause::Schema, format!("the schema of {app:?} is not sound: {why}")).untouched("No file was touched")
}
