//! From a key to a file of the declared structure: connected, recognised, created, adopted or upgraded.

use super::asked::{Asked, Looked};
use super::create::{self, Filling};
use super::foreign_log;
use super::keyed::Keyed;
use super::recognise::{self, Found, recognise};
use super::registry;
use super::why_not::not_opened;
use crate::device::companions::with_companions;
use crate::drawer::Opened;
use crate::engine::{Connection, Fault, FaultKind, Opener, fits_its_log};
use crate::error::{Doing, Error};
use crate::evolve;
use crate::search;
use crate::work::cancel::Cancel;
use std::path::{Path, PathBuf};
use velvet_core::schema::structure::Structure;

/// A file that has the declared structure, and the connection that writes to it.
pub(super) struct BroughtUp {
    pub(super) writer: Connection,
    /// Opens further connections to that file.
    pub(super) opener: Opener,
    pub(super) opened: Opened,
}

/// Why opening a file was refused.
pub(super) struct Refused {
    pub(super) error: Error,
    /// Whether its key was not found.
    pub(super) is_without_key: bool,
}

impl From<Error> for Refused {
    fn from(error: Error) -> Refused {
        Refused { error, is_without_key: false }
    }
}

impl Asked {
    /// Brings the file at the path to the declared structure. `log_set_aside` gets the new path of a log that was set aside, also if a later step fails.
    pub(super) fn brought_up(
        &self,
        path: &Path,
        looked: &Looked,
        log_set_aside: &mut Option<PathBuf>,
    ) -> Result<BroughtUp, Refused> {
        let engine = |fault| {
            let error = not_opened(fault, path);
            error.doing("cannot open the drawer").untouched(recognise::UNTOUCHED)
        };
        if !looked.is_open_here {
            if self.options.adopt.is_none() {
                self.refuse_unfinished_of_another(path, looked)?;
            }
            foreign_log::answered(path, self.options.set_aside.foreign_log)?;
            looked.file.as_ref().map_or(Ok(()), |file| registry::refuse_second_names(path, file))?;
        }
        let (mut opener, mut writer) = self.connected(path, looked)?;
        let is_foreign = |fault: &Fault| fault.kind == FaultKind::ForeignLog;
        if self.options.set_aside.foreign_log && writer.as_ref().is_err_and(is_foreign) {
            *log_set_aside = foreign_log::set_aside(path)?;
            (opener, writer) = self.connected(path, &Looked::at(path))?;
        }
        let writer = writer.map_err(engine)?;
        let opened = writer.until_cancelled_here(|| self.with_declared_structure(&writer, path))?;
        Ok(BroughtUp { writer, opener, opened })
    }

    /// A connection that writes, with the key of the file; where there is no file, a new one is made.
    fn connected(&self, path: &Path, looked: &Looked) -> Result<(Opener, Result<Connection, Fault>), Refused> {
        if self.options.file_key.is_some()
            && looked.is_empty()
            && let Err(fault) = fits_its_log(path)
        {
            // A log that is left there would be laid over the new file.
            return Ok((self.opener(path), Err(fault)));
        }
        let Keyed(opener) = self.keyed(path, looked).map_err(|error| Refused { error, is_without_key: true })?;
        let writer = opener.new_writer();
        Ok((opener, writer))
    }

    /// Brings the file to the declared structure, where it is one of this app's, or may be taken over.
    fn with_declared_structure(&self, writer: &Connection, path: &Path) -> Result<Opened, Error> {
        let use_wal = || {
            let switched = writer.use_wal().map_err(|fault| not_opened(fault, path));
            switched.doing(|| "cannot open the drawer").untouched(|| recognise::UNTOUCHED)
        };
        let adopted = match recognise(writer, &self.declared) {
            Ok(found) => {
                use_wal()?;
                return self.bring_up(writer, found, Some(path));
            }
            Err(error) => match &self.options.adopt {
                Some(conversions) if error.is_other_app() && recognise::is_plain(writer) => {
                    evolve::adopt(writer, &self.declared, Some(path), &self.watch(), conversions)?
                }
                _ => return Err(error),
            },
        };
        use_wal()?;
        let opened = self.bring_up(writer, recognise(writer, &self.declared)?, Some(path))?;
        Ok(Opened { adopted: Some(adopted), ..opened })
    }

    /// Refuses a file of another program beside which the way back out of an unfinished transaction stands: the engine would take that way as soon
    /// as it opens the file, and it is to be left as it is.
    fn refuse_unfinished_of_another(&self, path: &Path, looked: &Looked) -> Result<(), Error> {
        let has_journal = with_companions(path).nth(3).is_some_and(|j| j.metadata().is_ok_and(|m| m.len() > 0));
        if !has_journal || looked.file.is_none() {
            return Ok(());
        }
        // What else is wrong with it is said when it is opened.
        let Ok(look) = Opener::new(path).traceless(&Cancel::default(), self.options.settings.wait) else {
            return Ok(());
        };
        match look.read(|connection| recognise(connection, &self.declared)) {
            Err(error) if error.is_other_app() => Err(error),
            _ => Ok(()),
        }
    }

    /// Makes the declared structure of what was found.
    pub(super) fn bring_up(&self, connection: &Connection, found: Found, path: Option<&Path>) -> Result<Opened, Error> {
        let (declared, trails) = (&self.declared, &self.options.trails);
        match found {
            Found::Current { trail } => {
                let found = declared.sealing.find_or_begin(connection, &declared.app, &declared.structure);
                let has_sealed = found.doing(|| "cannot open the drawer").untouched(|| recognise::UNTOUCHED)?;
                let is_settled = evolve::settle_alone(connection, declared)?;
                if has_sealed || is_settled {
                    evolve::clean(connection)?;
                }
                trails.bring_up(connection, declared, if is_settled { "" } else { &trail })?;
                index_what_others_wrote(connection, &declared.structure);
                Ok(Opened::default())
            }
            Found::Older(from) => {
                let upgraded = evolve::upgrade(connection, declared, from, path, &self.watch())?;
                trails.bring_up(connection, declared, "")?;
                Ok(Opened { upgraded, ..Opened::default() })
            }
            Found::Fresh if create::create(connection, declared, Filling::of(self.options.fill_new.as_ref()))? => {
                trails.bring_up(connection, declared, "")?;
                Ok(Opened { created: true, ..Opened::default() })
            }
            // Another process was faster, perhaps with an older version of the app.
            Found::Fresh => self.bring_up(connection, recognise(connection, declared)?, path),
        }
    }
}

/// So that the first search finds what other programs wrote while the file was closed. Where that cannot be, the search says so.
fn index_what_others_wrote(connection: &Connection, structure: &Structure) {
    let is_searched = search::searched(structure).next().is_some();
    if is_searched && search::is_behind(connection).unwrap_or_default() {
        let _ = search::catch_up_at_once(connection, structure);
    }
}
