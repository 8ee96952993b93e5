//! The one error of this library.

use crate::engine::{Fault, FaultKind};
use std::any::Any;
use std::error::Error as StdError;
use std::fmt;
use std::path::{Path, PathBuf};
use velvet_core::Misfit;
use velvet_core::exchange::show::escaped;

/// What went wrong, where, what was left untouched and what to do.
///
/// The message is for the developer: it can stand in a bug report alone. What an app can act on is asked with the
/// `is_…` methods.
///
/// ```
/// # use velvet_drawer::{Drawer, Record, Schema};
/// # #[derive(Record, Debug)] struct Glaze { #[record(own_key)] name: String }
/// let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
/// drawer.insert(Glaze { name: "Celadon".into() })?;
/// let error = drawer.insert(Glaze { name: "Celadon".into() }).unwrap_err();
/// assert!(error.is_clash());
/// assert_eq!(error.column(), Some("name"));
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
pub struct Error(Box<Parts>);

struct Parts {
    cause: Cause,
    problem: String,
    /// Whether it is still to be said what was being done.
    is_bare: bool,
    untouched: Option<String>,
    advice: Option<String>,
    file: Option<PathBuf>,
    table: Option<String>,
    column: Option<String>,
    source: Option<Box<dyn StdError + Send + Sync>>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Cause {
    Clash,
    BrokenLink,
    Trigger,
    NotFound,
    ChangedMeanwhile,
    Misfit,
    Unreadable,
    Schema,
    OtherStructure,
    NewerVersion,
    OtherApp,
    NotADatabase,
    Damaged,
    ForeignLog,
    Locked,
    ReadOnly,
    NoSpace,
    InUse,
    Displaced,
    Nested,
    FileMissing,
    AlreadyThere,
    BadQuery,
    Device,
    BeyondBounds,
    Cancelled,
    Own,
    KeyMissing,
    KeyLocked,
    WrongKey,
    #[cfg_attr(not(feature = "encryption"), allow(dead_code, reason = "no file has a key then"))]
    NotEncrypted,
    Engine,
}

macro_rules! predicates {
    ($($(#[$doc:meta])* $name:ident: $($cause:ident)|+;)*) => {
        /// What an app can act on.
        impl Error {
            $($(#[$doc])* pub fn $name(&self) -> bool {
                matches!(self.0.cause, $(Cause::$cause)|+)
            })*
        }
    };
}

predicates! {
    /// Another record has this key or unique value already.
    is_clash: Clash;
    /// A link would lead nowhere: to a record that is not there, or from one that would stay behind.
    is_broken_link: BrokenLink;
    /// A trigger in the file, which the library did not make, raised an error; its text is in the message.
    is_refused_by_trigger: Trigger;
    /// The key of the file, or of what is sealed in it, is not there, or its keeper failed; what is not sealed can be read without.
    is_key_missing: KeyMissing;
    /// The keeper of the keys is locked, as while the device is; trying again later may help.
    is_key_locked: KeyLocked;
    /// The key is not the one by which the file was encrypted, or what is sealed in it.
    is_wrong_key: WrongKey;
    /// The file is not encrypted, and was to be opened with a key.
    is_not_encrypted: NotEncrypted;
    /// The record to be changed is not there.
    is_not_found: NotFound;
    /// The record was changed or removed since the edit that was to be saved was taken.
    is_changed_meanwhile: ChangedMeanwhile;
    /// A value has no stored form: NaN, a number above the file's range.
    is_misfit: Misfit;
    /// What is stored is not a value of its field's type.
    is_unreadable: Unreadable;
    /// The schema is not sound, or lacks a record that is used.
    is_schema: Schema;
    /// The file has another structure than the one declared, at the same version.
    is_other_structure: OtherStructure;
    /// A newer version of the app wrote the file.
    is_newer_version: NewerVersion;
    /// The file belongs to another app or program.
    is_other_app: OtherApp;
    /// The file is no database, or an encrypted one.
    is_not_a_database: NotADatabase;
    /// The file is damaged.
    is_damaged: Damaged;
    /// A write-ahead log that may hold acknowledged writes is next to the file and is not part of it: it belongs to a different version of the file, or it was
    /// set aside and nobody has answered for it yet. Answer with [`Options::set_aside_foreign_log`](crate::Options::set_aside_foreign_log) or
    /// [`Drawer::bring_back_log`](crate::Drawer::bring_back_log).
    is_foreign_log: ForeignLog;
    /// Another process kept the file locked for longer than the waiting time; trying again later may help.
    is_locked: Locked;
    /// The file or its folder cannot be written.
    is_read_only: ReadOnly;
    /// The device has no space left.
    is_no_space: NoSpace;
    /// Something still uses the drawer.
    is_in_use: InUse;
    /// The file was deleted, moved, replaced or overwritten while the drawer was open, so that what is written would be lost. What it held is kept next to its
    /// path. This is checked before each transaction, so an overwrite in the middle of one is noticed by the next. A file of the
    /// same app that is copied over it is not noticed if its header is the same; nor if it counts more changes, or has the same key where it is encrypted, and
    /// came while the app was in the background or right after the first transaction since the log was merged.
    ///
    /// Whoever means to delete a drawer closes it and calls [`Drawer::remove_from_device`](crate::Drawer::remove_from_device), which removes such copies too.
    is_displaced: Displaced;
    /// The drawer was used inside its own transaction, on the same thread.
    is_nested: Nested;
    /// A file or folder is not there, or cannot be opened.
    is_file_missing: FileMissing;
    /// A file of the name that was given for a new one is there already.
    is_already_there: AlreadyThere;
    /// A word, condition or statement that somebody typed does not fit the file.
    is_bad_query: BadQuery;
    /// The device failed to read or write.
    is_device: Device;
    /// What the file defines would take more time, or more memory, than it may.
    is_beyond_bounds: BeyondBounds;
    /// It was cancelled.
    is_cancelled: Cancelled;
    /// The app's own error, from [`Error::own`].
    is_own: Own;
}

impl Error {
    pub(crate) fn new(cause: Cause, problem: impl Into<String>) -> Error {
        Error(Box::new(Parts {
            cause,
            problem: problem.into(),
            is_bare: false,
            untouched: None,
            advice: None,
            file: None,
            table: None,
            column: None,
            source: None,
        }))
    }

    /// An error of the app's own, with which a closure of `write` gives up: everything it wrote is rolled back, and
    /// `write` returns this error, which has it as its source ([`Error::own_as`]).
    ///
    /// With three lines, an error type of the app's goes through `?` in such a closure:
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Error, Record, Schema};
    /// # #[derive(Debug, Record)] struct Glaze { name: String }
    /// #[derive(Debug, PartialEq)]
    /// enum Refused { NoCobaltLeft }
    ///
    /// impl From<Refused> for Error {
    ///     fn from(refused: Refused) -> Error { Error::own(refused) }
    /// }
    /// # impl std::fmt::Display for Refused { fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result { f.write_str("no cobalt left") } }
    /// # impl std::error::Error for Refused {}
    ///
    /// fn weigh_cobalt() -> Result<u32, Refused> { Err(Refused::NoCobaltLeft) }
    ///
    /// # fn main() -> Result<(), Error> {
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// let refused = drawer.write(|tx| {
    ///     weigh_cobalt()?;
    ///     tx.insert(Glaze { name: "Cobalt".into() })
    /// });
    /// assert_eq!(refused.unwrap_err().own_as(), Some(&Refused::NoCobaltLeft));
    /// # Ok(()) }
    /// ```
    pub fn own(error: impl Into<Box<dyn StdError + Send + Sync>>) -> Error {
        let error = error.into();
        let mut own = Error::new(Cause::Own, error.to_string());
        own.0.source = Some(error);
        own
    }

    /// The app's own error that this was made of, where it was one of this type.
    pub fn own_as<E: StdError + 'static>(&self) -> Option<&E> {
        self.0.source.as_deref()?.downcast_ref()
    }

    /// Code of the app's own panicked.
    pub(crate) fn of_panic(panic: &(dyn Any + Send)) -> Error {
        let words =
            panic.downcast_ref::<String>().map(String::as_str).or_else(|| panic.downcast_ref::<&str>().copied());
        Error::bare(Cause::Own, format!("code of the app panicked: {}", words.unwrap_or("it did not say why")))
    }

    /// An error of the device; `doing` begins the sentence.
    pub(crate) fn device(doing: &str, error: &std::io::Error) -> Error {
        let cause = match error.kind() {
            std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => Cause::NoSpace,
            std::io::ErrorKind::PermissionDenied | std::io::ErrorKind::ReadOnlyFilesystem => Cause::ReadOnly,
            std::io::ErrorKind::NotFound => Cause::FileMissing,
            _ => Cause::Device,
        };
        match cause {
            Cause::NoSpace => Error::new(cause, format!("{doing}: the device has no space left ({error})"))
                .advise("Free some space and try again"),
            _ => {
                let told = Error::new(cause, format!("{doing}: {error}"));
                match advice(error) {
                    Some(advice) => told.advise(advice),
                    None => told,
                }
            }
        }
    }

    /// The file it is about.
    pub fn file(&self) -> Option<&Path> {
        self.0.file.as_deref()
    }

    /// The table it is about.
    pub fn table(&self) -> Option<&str> {
        self.0.table.as_deref()
    }

    /// The column it is about.
    pub fn column(&self) -> Option<&str> {
        self.0.column.as_deref()
    }

    #[must_use]
    pub(crate) fn untouched(mut self, what: impl Into<String>) -> Error {
        self.0.untouched = Some(what.into());
        self
    }

    #[must_use]
    pub(crate) fn advise(mut self, what: impl Into<String>) -> Error {
        self.0.advice = Some(what.into());
        self
    }

    #[must_use]
    pub(crate) fn in_file(mut self, file: &Path) -> Error {
        self.0.file.get_or_insert_with(|| file.to_owned());
        self
    }

    #[must_use]
    pub(crate) fn in_table(mut self, table: &str, column: Option<&str>) -> Error {
        self.0.table = Some(table.to_owned());
        self.0.column = column.map(str::to_owned);
        self
    }

    /// Says what was being done, which begins the sentence, where that is still to be said.
    #[must_use]
    pub(crate) fn doing(mut self, what: impl fmt::Display) -> Error {
        if std::mem::take(&mut self.0.is_bare) {
            self.0.problem.insert_str(0, &format!("{what}: "));
        }
        self
    }

    /// Whether the engine said something that has no meaning of its own here.
    pub(crate) fn is_engine(&self) -> bool {
        self.0.cause == Cause::Engine
    }

    /// What went wrong, alone.
    #[cfg(feature = "inspect")]
    pub(crate) fn problem(&self) -> &str {
        &self.0.problem
    }

    /// Whether it is still to be said what was being done.
    pub(crate) fn is_bare(&self) -> bool {
        self.0.is_bare
    }

    /// What was left as it was, unless that was said already.
    #[must_use]
    pub(crate) fn or_untouched(mut self, what: &str) -> Error {
        self.0.untouched.get_or_insert_with(|| what.to_owned());
        self
    }

    /// An error of which it is still to be said what was being done.
    pub(crate) fn bare(cause: Cause, problem: impl Into<String>) -> Error {
        let mut error = Error::new(cause, problem);
        error.0.is_bare = true;
        error
    }

    /// An error made of a value that does not fit.
    pub(crate) fn misfit(cause: Cause, table: &str, columns: &[&str], misfit: Misfit) -> Error {
        let column = misfit.column.and_then(|at| columns.get(at)).copied();
        let place = column.map_or_else(|| table.to_owned(), |column| format!("{table}.{column}"));
        let error = Error::bare(cause, format!("in {place}, {misfit}")).in_table(table, column);
        match misfit.advice {
            Some(advice) => error.advise(advice),
            None => error,
        }
    }
}

/// What to do about a failure of the system's whose words do not say it.
fn advice(error: &std::io::Error) -> Option<&'static str> {
    match (error.kind(), error.raw_os_error()) {
        (std::io::ErrorKind::InvalidFilename, _) => {
            Some("Give the file a shorter name: what belongs to it is put beside it under longer ones")
        }
        // The numbers of all Unix systems for too many open files, of the process and of the system.
        (_, Some(23 | 24)) if cfg!(unix) => {
            Some("Close files and drawers that the app does not need, or let the system allow it more open files")
        }
        _ => None,
    }
}

/// Says of what fails what was being done, what it left as it was, and where.
pub(crate) trait Doing<R>: Sized {
    /// What was being done; it begins the sentence.
    fn doing<D: fmt::Display>(self, what: impl FnOnce() -> D) -> Result<R, Error>;

    /// What was left as it was.
    fn untouched<W: Into<String>>(self, what: impl FnOnce() -> W) -> Result<R, Error>;

    /// The file that it is about.
    fn in_file(self, file: &Path) -> Result<R, Error>;
}

impl<R, E: Into<Error>> Doing<R> for Result<R, E> {
    #[inline]
    fn doing<D: fmt::Display>(self, what: impl FnOnce() -> D) -> Result<R, Error> {
        self.map_err(|error| error.into().doing(what()))
    }

    fn untouched<W: Into<String>>(self, what: impl FnOnce() -> W) -> Result<R, Error> {
        self.map_err(|error| error.into().untouched(what()))
    }

    fn in_file(self, file: &Path) -> Result<R, Error> {
        self.map_err(|error| error.into().in_file(file))
    }
}

/// A refusal of the engine, of which it is still to be said what was being done.
impl From<Fault> for Error {
    #[cold]
    fn from(fault: Fault) -> Error {
        let Fault { kind, message } = fault;
        let of = |cause, what: &str| Error::bare(cause, what);
        match kind {
            FaultKind::Locked => of(Cause::Locked, &format!("another program holds the file ({message})"))
                .advise("Try again when it is done, or wait longer with Drawer::options().lock_timeout(…)"),
            FaultKind::NoSpace => of(Cause::NoSpace, "the device has no space left")
                .advise("Free some space and try again; everything written before is safe"),
            FaultKind::ReadOnly => {
                of(Cause::ReadOnly, &format!("the file or its folder cannot be written ({message})"))
                    .advise("Keep drawers in a folder that the app may write, such as place::durable(…)")
            }
            FaultKind::ForeignLog => of(
                Cause::ForeignLog,
                "the write-ahead log next to the file belongs to a different version of it; replaying it would corrupt the file",
            )
            .advise(
                "If the log's own file still exists, put it back. If the file was replaced on purpose, for example from a backup, open it once with \
                 Options::set_aside_foreign_log, which keeps both",
            ),
            FaultKind::Displaced(how) => of(Cause::Displaced, how.in_words()),
            FaultKind::CannotOpen => of(Cause::FileMissing, "the file cannot be opened, or one beside it, or a temporary one")
                .advise(
                    "Check that the path is a file, not a folder, that the app may read and write it and its folder, and that there is a \
                     folder for temporary files (place::hand_in)",
                ),
            FaultKind::NoTemporaryFolder => of(Cause::ReadOnly, &message)
                .advise("Hand in the app's own folders with place::hand_in when it starts, or set TMPDIR"),
            FaultKind::NotADatabase => of(Cause::NotADatabase, "the file is no database, or an encrypted one")
                .advise("Check the path; if the file is encrypted, it cannot be read without its key"),
            FaultKind::Damaged => of(Cause::Damaged, &format!("the file is damaged ({message})"))
                .advise("Keep a copy of the file and everything beside it before anything else touches it"),
            FaultKind::NoTable(name) => of(Cause::Schema, &format!("the table `{name}` is not in the file"))
                .advise("Add it to the schema with `.record::<…>()`, `.settings::<…>()` or `.attachments()`"),
            FaultKind::TooBig => of(Cause::Misfit, "a value is larger than the file can hold (1,000,000,000 bytes)")
                .advise("Keep it as a file outside the drawer"),
            FaultKind::SumTooBig => {
                of(Cause::Misfit, "a sum is above 9,223,372,036,854,775,807, the largest whole number of the file")
                    .advise("Add up fewer records, or a column of decimal numbers")
            }
            FaultKind::TooLong => of(
                Cause::BadQuery,
                &format!("it has too many conditions, or values in them ({message})"),
            )
            .advise(
                "Join conditions with `&` or `|` alone where they may be thousands, and compare with lists by one_of",
            ),
            FaultKind::Device => of(Cause::Device, &format!("the device failed to read or write ({message})"))
                .advise("Try again; if it fails again, copy the file to another device"),
            FaultKind::Interrupted(Some(within)) => of(
                Cause::BeyondBounds,
                &format!("what the file defines, such as a view, takes longer than the {within:?} that it may"),
            )
            .advise("If the file is one to trust, allow it more time (`within`)"),
            FaultKind::Interrupted(None) => of(Cause::Cancelled, "it was cancelled"),
            FaultKind::Endless(parts) => of(
                Cause::BeyondBounds,
                &format!("views that refer to each other make more of it than can be read ({parts} parts)"),
            )
            .advise("Read the tables that the views show"),
            FaultKind::OutOfProportion => of(
                Cause::BeyondBounds,
                "a value that is computed there, such as by a view, is larger than the whole file",
            )
            .advise("Read the columns that are stored, and leave out those that are computed"),
            FaultKind::Clash(columns) => {
                of(Cause::Clash, &format!("two records would have the same {}", columns.join(" and ")))
                    .advise("Choose another value, or change the record that has it")
            }
            FaultKind::Link => of(Cause::BrokenLink, "a link would lead nowhere")
                .advise("Link to a record that is there, and remove records only after those that link to them"),
            FaultKind::Shut => of(Cause::KeyMissing, message.split_once(": ").map_or(&*message, |(_, why)| why))
                .advise("Open the drawer with the keeper of its keys (Options::keys)"),
            FaultKind::Altered => of(Cause::Unreadable, message.split_once(": ").map_or(&*message, |(_, why)| why))
                .advise("Take the record from a copy of the file, or write the value again"),
            FaultKind::Trigger => of(Cause::Trigger, &format!("a trigger in the file refused it: {message}"))
                .advise("Whoever made that trigger knows what it wants"),
            FaultKind::Unfit => of(Cause::Misfit, &format!("a column does not take the value ({message})"))
                .advise("Write a value of the column's own type, and one that is there unless the column is optional"),
            FaultKind::NotWhole => of(Cause::Misfit, "a row number or a limit is no whole number")
                .advise("Give whole numbers where the file numbers its rows"),
            FaultKind::RolledBack(first) => {
                let cause = Error::from(Fault { kind: *first, message: message.clone() }).0.cause;
                of(cause, &format!("an earlier error in this transaction had it rolled back as a whole ({message})"))
                    .advise("Return that error from the closure instead of going on after it, and write it all again")
            }
            FaultKind::NoColumn(_) | FaultKind::Forbidden | FaultKind::Other => {
                of(Cause::Engine, &format!("{message} (engine version {})", crate::engine::version()))
            }
        }
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Parts { problem, untouched, advice, file, .. } = &*self.0;
        // Names and values in it come from files, which anybody may have made.
        f.write_str(&escaped(problem))?;
        let after = |sentence: &str| if sentence.ends_with(['?', '.']) { "" } else { "." };
        let mut end = after(problem);
        for sentence in [untouched, advice].into_iter().flatten() {
            write!(f, "{end} {}", escaped(sentence))?;
            end = after(sentence);
        }
        match file {
            Some(file) => write!(f, "{end} File: {}", escaped(&file.display().to_string())),
            None => Ok(()),
        }
    }
}

impl fmt::Debug for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}: {self}", self.0.cause)
    }
}

impl StdError for Error {
    fn source(&self) -> Option<&(dyn StdError + 'static)> {
        self.0.source.as_ref().map(|e| &**e as &(dyn StdError + 'static))
    }
}
