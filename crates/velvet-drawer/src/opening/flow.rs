//! What opening a drawer does, from a path to an open file.

use super::aside;
use super::create;
use super::foreign_log;
use super::kept::keep_within;
use super::options::{FillNew, Options};
use super::path;
use super::recognise::{self, Found, recognise};
use super::registry;
use super::why_not::{not_opened, not_opened_to_read};
use crate::attachments;
use crate::bookkeeping::sessions::{Recorder, Start};
use crate::bookkeeping::trails::Keeping;
use crate::device::companions::with_companions;
use crate::device::unfinished::clear_left_behind;
use crate::drawer::{Drawer, InEffect, Inner, Opened, Place};
use crate::engine::{self, Connection, FaultKind, Opener, Pool, identity, is_open_here};
use crate::error::{Cause, Doing, Error};
use crate::events;
use crate::evolve::{self, Watch};
use crate::schema::about::About;
use crate::schema::{Declared, Schema};
use crate::search;
use crate::work::cancel::Cancel;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use velvet_core::schema::structure::{ATTACHMENT_PART, Structure};

impl Options {
    /// What holds for the whole time that the file is open.
    fn in_effect(&self, declared: &Declared) -> InEffect {
        InEffect {
            trails: self.trails.in_effect(declared),
            relaxed: self.settings.relaxed,
            encrypted: self.file_key.is_some(),
            read_only: self.read_only,
            files_root: self.files_root.clone(),
            without_sessions: self.sessions_kept.is_none() || self.read_only,
            log_at_most: self.wal_at_most,
            others_within: self.others_within,
            clock: self.clock.clone(),
        }
    }

    pub(super) fn opener(&self, path: &Path) -> Opener {
        Opener { settings: self.settings.clone(), ..Opener::new(path) }
    }

    fn watch(&self) -> Watch {
        Watch::new(self.slow_upgrade, self.fail_upgrade)
    }

    pub(super) fn open_inner(mut self, path: &Path, schema: Schema) -> Result<Arc<Inner>, Error> {
        let begun = Instant::now();
        let result = schema.declared().map_err(|e| e.in_file(path)).and_then(|mut declared| {
            declared.app_version.clone_from(&self.app_version);
            self.trails.fits(&declared).map_err(|e| e.in_file(path))?;
            self.hand_over_keys(&mut declared).map_err(|e| e.in_file(path))?;
            let path = if self.read_only { path::resolved(path)? } else { path::prepared(path)? };
            self.fits_open_file(&path)?;
            events::configured(&path, &declared.app, declared.version);
            let asked = self.in_effect(&declared);
            registry::open(&path, declared, &asked, |declared| {
                let inner = self.open_file(&path, declared)?;
                tell(&path, inner.opened(), inner.declared.version, begun.elapsed());
                Ok(inner)
            })
        });
        result.inspect_err(|error| events::failed(path, error))
    }

    /// Opens a file that the app has created and brought to its version, only to read it.
    fn open_to_read(mut self, path: &Path, declared: Declared) -> Result<Arc<Inner>, Error> {
        let place = Place::File(path.to_owned());
        let mut open = || {
            if !path.exists() {
                let error =
                    Error::bare(Cause::FileMissing, "there is no file to read, and it is opened only to be read");
                return Err(error.advise("Let the app open it first, which creates it"));
            }
            self.find_key(path)?;
            let reader = self.opener(path).first_reader()?;
            let opener = self.opener(path).held_to_the_file(&reader)?;
            match recognise(&reader, &declared)? {
                Found::Current { .. } => {
                    declared.sealing.find_if_any(&reader, &declared.app)?;
                    Ok((opener, reader))
                }
                Found::Older(version) => {
                    let problem =
                        format!("it is at version {version}, and is opened only to be read at {}", declared.version);
                    Err(Error::bare(Cause::OtherStructure, problem)
                        .advise("Let the app open it first, which upgrades it"))
                }
                Found::Fresh => {
                    Err(Error::bare(Cause::FileMissing, "nothing is in it yet, and it is opened only to be read")
                        .advise("Let the app open it first, which creates it"))
                }
            }
        };
        let opened = open().map_err(|error| not_opened_to_read(error, path));
        let opened = opened.doing(|| "cannot open the drawer").untouched(|| recognise::UNTOUCHED);
        let (opener, reader) = opened.map_err(|error| place.name(error))?;
        let in_effect = self.in_effect(&declared);
        let files_root = self.files_root.or_else(|| path.parent().map(Path::to_owned));
        let pool = Pool::to_read(opener, reader);
        Ok(Arc::new(Inner::new(place, declared, (files_root, in_effect), Opened::default(), (None, None), pool)))
    }

    fn open_file(mut self, path: &Path, declared: Declared) -> Result<Arc<Inner>, Error> {
        if self.read_only {
            return self.open_to_read(path, declared);
        }
        let place = Place::File(path.to_owned());
        let shipped = match &self.shipped {
            Some(shipped) if !path.exists() => shipped.copy_to(path, self.file_key.as_ref())?,
            _ => false,
        };
        let in_effect = self.in_effect(&declared);
        let (mut set_aside, mut log_set_aside) = (None, None);
        let mut attempts = 0;
        let (writer, opened, opener) = loop {
            let before = identity(path).ok();
            let opened = self.writer(path, &declared, &mut log_set_aside);
            if opened.is_err() && attempts < ATTEMPTS && before.is_some() && before != identity(path).ok() {
                // What is wrong is not wrong with the file that is there now.
                attempts += 1;
                continue;
            }
            let opened = opened.or_else(|error| {
                let error = place.name(error);
                if !self.set_aside.covers(&error) && !self.lacks_key(path, &error) {
                    return Err(error);
                }
                set_aside = Some(aside::set_aside(path)?);
                self.writer(path, &declared, &mut log_set_aside).map_err(|e| place.name(e))
            });
            let (writer, opened) = opened?;
            match self.opener(path).held_to_the_file(&writer) {
                Ok(opener) => break (writer, opened, opener),
                // Another process restored or removed the drawer while it was being opened.
                Err(_) if attempts < ATTEMPTS => attempts += 1,
                Err(fault) => return Err(place.name(Error::from(fault).doing("cannot open the drawer"))),
            }
        };
        let opened = Opened { shipped, set_aside, log_set_aside, ..opened };
        let files_root = self.files_root.or_else(|| path.parent().map(Path::to_owned));
        let start = self.sessions_kept.map(|kept| Start {
            opener: opener.clone(),
            app_version: declared.app_version.clone(),
            schema_version: declared.version,
            opened: opened.in_words(),
            kept,
        });
        let recorder = start.map(Recorder::new).map(Arc::new);
        let trails = self
            .trails
            .any(&declared)
            .then(|| Keeping::new(self.trails.entries, self.trails.age, self.clock.clone(), recorder.clone()));
        let (copies, clock) = (self.copies, self.clock.clone());
        if opened.upgraded.is_some() || opened.adopted.is_some() {
            // Where it cannot be done now, the next start does it.
            let _ = keep_within(&writer, path, copies, clock.now());
        }
        let pool = Pool::new(opener, writer);
        if let Some(recorder) = &recorder {
            let listened = pool.listen(recorder.hears()).transpose();
            listened.doing(|| "cannot open the drawer").map_err(|e| place.name(e))?;
        }
        let inner = Arc::new(Inner::new(place, declared, (files_root, in_effect), opened, (recorder, trails), pool));
        filled(&inner, self.fill_new)?;
        remove_what_was_left(&inner);
        if let Some(recorder) = inner.recorder() {
            let (path, writer) = (path.to_owned(), inner.pool().shared_writer());
            recorder.begin(inner.pool().shared_writer(), move || {
                let _ = writer.lend(|c| c.without_lock_timeout(|| keep_within(c, &path, copies, clock.now())));
                clear_left_behind(&path);
            });
        }
        Ok(inner)
    }

    /// The connection that writes to the file at `path`, once that has the declared structure.
    fn writer(
        &mut self,
        path: &Path,
        declared: &Declared,
        log_set_aside: &mut Option<PathBuf>,
    ) -> Result<(Connection, Opened), Error> {
        let engine = |fault| {
            let error = not_opened(fault, path);
            error.doing("cannot open the drawer").untouched(recognise::UNTOUCHED)
        };
        if self.adopt.is_none() {
            self.unfinished_of_another(path, declared)?;
        }
        if !is_open_here(path) {
            foreign_log::answered(path, self.set_aside.foreign_log)?;
            registry::refuse_second_names(path)?;
        }
        let mut writer = self.first_writer(path)?;
        if self.set_aside.foreign_log && writer.as_ref().is_err_and(|fault| fault.kind == FaultKind::ForeignLog) {
            *log_set_aside = foreign_log::set_aside(path)?;
            writer = self.first_writer(path)?;
        }
        let writer = writer.map_err(engine)?;
        writer.until_cancelled_here(|| self.brought_up(&writer, path, declared)).map(|opened| (writer, opened))
    }

    /// Brings the file to the declared structure, where it is one of this app's, or may be taken over.
    fn brought_up(&self, writer: &Connection, path: &Path, declared: &Declared) -> Result<Opened, Error> {
        let use_wal = || {
            let switched = writer.use_wal().map_err(|fault| not_opened(fault, path));
            switched.doing(|| "cannot open the drawer").untouched(|| recognise::UNTOUCHED)
        };
        let adopted = match recognise(writer, declared) {
            Ok(found) => {
                use_wal()?;
                return self.bring_up(writer, found, declared, Some(path));
            }
            Err(error) => match &self.adopt {
                Some(conversions) if error.is_other_app() && recognise::is_plain(writer) => {
                    evolve::adopt(writer, declared, Some(path), &self.watch(), conversions)?
                }
                _ => return Err(error),
            },
        };
        use_wal()?;
        let opened = self.bring_up(writer, recognise(writer, declared)?, declared, Some(path))?;
        Ok(Opened { adopted: Some(adopted), ..opened })
    }

    /// Refuses a file of another program beside which the way back out of an unfinished transaction stands: the engine would take that way as soon
    /// as it opens the file, and it is to be left as it is.
    fn unfinished_of_another(&self, path: &Path, declared: &Declared) -> Result<(), Error> {
        let has_journal = with_companions(path).nth(3).is_some_and(|j| j.metadata().is_ok_and(|m| m.len() > 0));
        if !has_journal || !path.exists() || is_open_here(path) {
            return Ok(());
        }
        // What else is wrong with it is said when it is opened.
        let Ok(look) = Opener::new(path).traceless(&Cancel::default(), self.settings.wait) else { return Ok(()) };
        match look.read(|connection| recognise(connection, declared)) {
            Err(error) if error.is_other_app() => Err(error),
            _ => Ok(()),
        }
    }

    /// Hands over how keys are had, and where they are put.
    fn hand_over_keys(&mut self, declared: &mut Declared) -> Result<(), Error> {
        self.sealing.prepare(&declared.structure)?;
        self.settings.seals = self.sealing.seals();
        declared.sealing.clone_from(&self.sealing);
        Ok(())
    }

    /// Makes the declared structure of what was found.
    fn bring_up(
        &self,
        connection: &Connection,
        found: Found,
        declared: &Declared,
        path: Option<&Path>,
    ) -> Result<Opened, Error> {
        match found {
            Found::Current { trail } => {
                let found = declared.sealing.find_or_begin(connection, &declared.app, &declared.structure);
                let has_sealed = found.doing(|| "cannot open the drawer").untouched(|| recognise::UNTOUCHED)?;
                let is_settled = evolve::settle_alone(connection, declared)?;
                if has_sealed || is_settled {
                    evolve::clean(connection)?;
                }
                self.trails.bring_up(connection, declared, if is_settled { "" } else { &trail })?;
                self.index_what_others_wrote(connection, &declared.structure);
                Ok(Opened::default())
            }
            Found::Older(from) => {
                let upgraded = evolve::upgrade(connection, declared, from, path, &self.watch())?;
                self.trails.bring_up(connection, declared, "")?;
                Ok(Opened { upgraded, ..Opened::default() })
            }
            Found::Fresh if create::create(connection, declared, self.fill_new.is_some())? => {
                self.trails.bring_up(connection, declared, "")?;
                Ok(Opened { created: true, ..Opened::default() })
            }
            // Another process was faster, perhaps with an older version of the app.
            Found::Fresh => self.bring_up(connection, recognise(connection, declared)?, declared, path),
        }
    }

    /// So that the first search finds what other programs wrote while the file was closed. Where that cannot be, the search says so.
    fn index_what_others_wrote(&self, connection: &Connection, structure: &Structure) {
        let is_searched = search::searched(structure).next().is_some();
        if is_searched && search::is_behind(connection).unwrap_or_default() {
            let _ = search::catch_up_at_once(connection, structure);
        }
    }

    pub(super) fn open_memory(
        mut self,
        schema: Schema,
        fill: impl FnOnce(&mut Connection, Duration) -> Result<(), Error>,
    ) -> Result<Arc<Inner>, Error> {
        let name = |error: Error| Place::Memory.name(error);
        let mut declared = schema.declared().map_err(name)?;
        self.trails.fits(&declared).map_err(name)?;
        declared.app_version.clone_from(&self.app_version);
        self.sealing.in_memory();
        self.hand_over_keys(&mut declared).map_err(name)?;
        let place = engine::memory_place();
        let mut writer = self.opener(&place).new_writer().doing(|| "cannot open a drawer in memory").map_err(name)?;
        fill(&mut writer, self.settings.wait).map_err(name)?;
        let found = recognise(&writer, &declared).map_err(name)?;
        let opened = self.bring_up(&writer, found, &declared, None).map_err(name)?;
        let trails = self
            .trails
            .any(&declared)
            .then(|| Keeping::new(self.trails.entries, self.trails.age, self.clock.clone(), None));
        let pool = Pool::new(self.opener(&place), writer);
        let in_effect = InEffect { clock: self.clock.clone(), ..InEffect::default() };
        let inner =
            Arc::new(Inner::new(Place::Memory, declared, (self.files_root, in_effect), opened, (None, trails), pool));
        filled(&inner, self.fill_new)?;
        Ok(inner)
    }
}

/// How often to open again what was replaced while it was being opened.
const ATTEMPTS: u32 = 10;

/// How many parts of attachments that were not stored to their end are removed at once.
const PARTS_AT_ONCE: u64 = 256;

/// Removes what a process that was killed left of attachments, or some of it: the rest goes when the next one is added.
fn remove_what_was_left(inner: &Inner) {
    let has_attachments = inner.declared.structure.table(ATTACHMENT_PART).is_some();
    if has_attachments
        && inner.reading(|scope| Ok(attachments::is_something_left(scope.connection)?)).unwrap_or_default()
    {
        // Where it cannot be removed, it does no harm.
        let _ = inner.remove_leftovers(Some(PARTS_AT_ONCE));
    }
}

/// Brings data into a file that waits for it.
fn filled(inner: &Arc<Inner>, fill: Option<FillNew>) -> Result<(), Error> {
    let Some(FillNew(fill)) = fill else { return Ok(()) };
    Drawer::of(Arc::clone(inner)).write(|tx| {
        let scope = tx.scope();
        let doing = || "cannot bring data into the new file";
        if scope.doing(doing, || Ok(About::waits_to_be_filled(scope.connection)?))? {
            fill(tx)?;
            scope.doing(doing, || Ok(About::is_filled(scope.connection)?))?;
        }
        Ok(())
    })
}

/// Tells the app's log what opening came to.
fn tell(path: &Path, opened: &Opened, version: u32, took: Duration) {
    if opened.shipped {
        events::shipped(path);
    }
    if let Some(place) = &opened.set_aside {
        events::set_aside(path, place);
    }
    if let Some(place) = &opened.log_set_aside {
        events::set_aside(path, place);
    }
    if let Some(adopted) = &opened.adopted {
        events::adopted(path, adopted.version);
    }
    if opened.created {
        events::created(path, version);
    }
    if let Some(upgraded) = &opened.upgraded {
        events::upgraded(path, upgraded.from, version, upgraded.backup.as_deref());
    }
    events::opened(path, version, took);
}
