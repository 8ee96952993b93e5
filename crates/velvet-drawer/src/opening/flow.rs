//! What opening a drawer does, from a path to an open file.

use super::aside;
use super::asked::{Asked, Looked};
use super::brought_up::BroughtUp;
use super::kept::keep_within;
use super::keyed::Keyed;
use super::options::{FillNew, Options};
use super::path;
use super::recognise::{self, Found, recognise};
use super::registry;
use super::why_not::not_opened_to_read;
use crate::attachments;
use crate::device::unfinished::clear_left_behind;
use crate::drawer::{Drawer, InEffect, Inner, Opened, Place};
use crate::engine::{self, Connection, Opener, Pool};
use crate::error::{Cause, Doing, Error};
use crate::events;
use crate::schema::Schema;
use crate::schema::about::About;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use velvet_core::schema::structure::ATTACHMENT_PART;

impl Options {
    pub(super) fn open_inner(self, path: &Path, schema: Schema) -> Result<Arc<Inner>, Error> {
        let begun = Instant::now();
        let result = Asked::of(self, schema).map_err(|e| e.in_file(path)).and_then(|asked| {
            let path = if asked.options.read_only { path::resolved(path)? } else { path::prepared(path)? };
            asked.fits_open_file(&path)?;
            events::configured(&path, &asked.declared.app, asked.declared.version);
            let in_effect = asked.in_effect();
            registry::open(&path, asked, &in_effect, |asked| {
                let place = Place::File(path.clone());
                let inner = match asked.options.read_only {
                    true => asked.open_to_read(&path).map_err(|error| place.name(error))?,
                    false => asked.open_file(&path)?,
                };
                tell(&path, inner.opened(), inner.declared.version, begun.elapsed());
                Ok(inner)
            })
        });
        result.inspect_err(|error| events::failed(path, error))
    }

    pub(super) fn open_memory(
        mut self,
        schema: Schema,
        fill: impl FnOnce(&mut Connection, Duration) -> Result<(), Error>,
    ) -> Result<Arc<Inner>, Error> {
        let name = |error: Error| Place::Memory.name(error);
        self.sealing.in_memory();
        let asked = Asked::of(self, schema).map_err(name)?;
        let opener = asked.opener(&engine::memory_place());
        let mut writer = opener.new_writer().doing(|| "cannot open a drawer in memory").map_err(name)?;
        fill(&mut writer, asked.options.settings.wait).map_err(name)?;
        let found = recognise(&writer, &asked.declared).map_err(name)?;
        let opened = asked.bring_up(&writer, found, None).map_err(name)?;
        let trails = asked.keeping(None);
        let Asked { options, declared, .. } = asked;
        let in_effect = InEffect { clock: options.clock, ..InEffect::default() };
        let effects = (options.files_root, in_effect);
        let pool = Pool::new(opener, writer);
        let inner = Arc::new(Inner::new(Place::Memory, declared, effects, opened, (None, trails), pool));
        filled(&inner, options.fill_new)?;
        Ok(inner)
    }
}

impl Asked {
    /// Opens a file that the app has created and brought to its version, only to read it.
    fn open_to_read(self, path: &Path) -> Result<Arc<Inner>, Error> {
        let opened = self.reader(path).map_err(|error| not_opened_to_read(error, path));
        let opened = opened.doing(|| "cannot open the drawer").untouched(|| recognise::UNTOUCHED);
        let (opener, reader) = opened?;
        let effects = (self.files_root(path), self.in_effect());
        let (place, pool) = (Place::File(path.to_owned()), Pool::to_read(opener, reader));
        Ok(Arc::new(Inner::new(place, self.declared, effects, Opened::default(), (None, None), pool)))
    }

    /// A connection that reads a file of the declared structure.
    fn reader(&self, path: &Path) -> Result<(Opener, Connection), Error> {
        let looked = Looked::at(path);
        if looked.file.is_none() && !path.exists() {
            let error = Error::bare(Cause::FileMissing, "there is no file to read, and it is opened only to be read");
            return Err(error.advise("Let the app open it first, which creates it"));
        }
        let Keyed(opener) = self.keyed(path, &looked)?;
        let reader = opener.first_reader()?;
        let opener = opener.held_to_the_file(&reader)?;
        match recognise(&reader, &self.declared)? {
            Found::Current { .. } => {
                self.declared.sealing.find_if_any(&reader, &self.declared.app)?;
                Ok((opener, reader))
            }
            Found::Older(version) => {
                let expected = self.declared.version;
                let problem = format!("it is at version {version}, and is opened only to be read at {expected}");
                Err(Error::bare(Cause::OtherStructure, problem).advise("Let the app open it first, which upgrades it"))
            }
            Found::Fresh => {
                Err(Error::bare(Cause::FileMissing, "nothing is in it yet, and it is opened only to be read")
                    .advise("Let the app open it first, which creates it"))
            }
        }
    }

    fn files_root(&self, path: &Path) -> Option<PathBuf> {
        self.options.files_root.clone().or_else(|| path.parent().map(Path::to_owned))
    }

    /// Brings up what stands at the path, once more where another process replaced it meanwhile, and after it was set aside where the app wishes that.
    fn found(&self, path: &Path) -> Result<BroughtUp, Error> {
        let place = Place::File(path.to_owned());
        let shipped = match &self.options.shipped {
            Some(shipped) if !path.exists() => shipped.copy_to(path, self.options.file_key.as_ref())?,
            _ => false,
        };
        let (mut set_aside, mut log_set_aside) = (None, None);
        let mut attempts = 0;
        loop {
            let looked = Looked::at(path);
            let result = self.brought_up(path, &looked, &mut log_set_aside);
            if result.is_err() && attempts < ATTEMPTS && looked.is_replaced(path) {
                // What is wrong is not wrong with the file that is there now.
                attempts += 1;
                continue;
            }
            let result = result.or_else(|refused| {
                let error = place.name(refused.error);
                let gives_up_key = refused.is_without_key && self.gives_up_key(path, &error);
                if !self.options.set_aside.covers(&error) && !gives_up_key {
                    return Err(error);
                }
                set_aside = Some(aside::set_aside(path)?);
                let again = self.brought_up(path, &Looked::at(path), &mut log_set_aside);
                again.map_err(|refused| place.name(refused.error))
            });
            let BroughtUp { writer, opener, opened } = result?;
            match opener.held_to_the_file(&writer) {
                Ok(opener) => {
                    let opened = Opened { shipped, set_aside, log_set_aside, ..opened };
                    return Ok(BroughtUp { writer, opener, opened });
                }
                // Another process restored or removed the drawer while it was being opened.
                Err(_) if attempts < ATTEMPTS => attempts += 1,
                Err(fault) => return Err(place.name(Error::from(fault).doing("cannot open the drawer"))),
            }
        }
    }

    fn open_file(self, path: &Path) -> Result<Arc<Inner>, Error> {
        let BroughtUp { writer, opener, opened } = self.found(path)?;
        let place = Place::File(path.to_owned());
        let recorder = self.recorder(&opener, &opened);
        let trails = self.keeping(recorder.clone());
        let effects = (self.files_root(path), self.in_effect());
        let Asked { options, declared, .. } = self;
        let (copies, clock) = (options.copies, options.clock);
        if opened.upgraded.is_some() || opened.adopted.is_some() {
            // Where it cannot be done now, the next start does it.
            let _ = keep_within(&writer, path, copies, clock.now());
        }
        let pool = Pool::new(opener, writer);
        if let Some(recorder) = &recorder {
            let listened = pool.listen(recorder.hears()).transpose();
            listened.doing(|| "cannot open the drawer").map_err(|e| place.name(e))?;
        }
        let inner = Arc::new(Inner::new(place, declared, effects, opened, (recorder, trails), pool));
        filled(&inner, options.fill_new)?;
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
