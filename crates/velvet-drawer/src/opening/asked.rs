//! The options and the schema with which a drawer is opened. Each step of opening takes the value of the one before, so none can be left out or come too early:
//! [`Asked`] → [`Keyed`](super::keyed::Keyed) → [`BroughtUp`](super::brought_up::BroughtUp) → the open drawer.

use super::options::Options;
use crate::bookkeeping::sessions::{Recorder, Start};
use crate::bookkeeping::trails::Keeping;
use crate::drawer::{InEffect, Opened};
use crate::engine::{Opener, Seen, Settings, identity, is_open_here, seen};
use crate::error::Error;
use crate::evolve::Watch;
use crate::schema::{Declared, Schema};
use std::path::Path;
use std::sync::Arc;

/// The options, and what the app declares: both are sound, and no file was looked at yet.
pub(super) struct Asked {
    pub(super) options: Options,
    pub(super) declared: Declared,
    /// For connections; the key of the file is not among them yet.
    settings: Settings,
}

impl Asked {
    pub(super) fn of(options: Options, schema: Schema) -> Result<Asked, Error> {
        let mut declared = schema.declared()?;
        declared.app_version.clone_from(&options.app_version);
        options.trails.fits(&declared)?;
        let mut sealing = options.sealing.clone();
        sealing.prepare(&declared.structure)?;
        let settings = Settings { seals: sealing.seals(), ..options.settings.clone() };
        declared.sealing = sealing;
        Ok(Asked { options, declared, settings })
    }

    /// What holds for the whole time that the file is open.
    pub(super) fn in_effect(&self) -> InEffect {
        let options = &self.options;
        InEffect {
            trails: options.trails.in_effect(&self.declared),
            relaxed: options.settings.relaxed,
            encrypted: options.file_key.is_some(),
            read_only: options.read_only,
            files_root: options.files_root.clone(),
            without_sessions: options.sessions_kept.is_none() || options.read_only,
            log_at_most: options.wal_at_most,
            others_within: options.others_within,
            clock: options.clock.clone(),
        }
    }

    /// Opens connections to a file that is not encrypted, or whose key is added.
    pub(super) fn opener(&self, path: &Path) -> Opener {
        Opener { settings: self.settings.clone(), ..Opener::new(path) }
    }

    pub(super) fn watch(&self) -> Watch {
        Watch::new(self.options.slow_upgrade, self.options.fail_upgrade)
    }

    /// What writes the session down, where that is on.
    pub(super) fn recorder(&self, opener: &Opener, opened: &Opened) -> Option<Arc<Recorder>> {
        let start = self.options.sessions_kept.map(|kept| Start {
            opener: opener.clone(),
            app_version: self.declared.app_version.clone(),
            schema_version: self.declared.version,
            opened: opened.in_words(),
            kept,
        });
        start.map(Recorder::new).map(Arc::new)
    }

    /// What keeps trails, where any is on.
    pub(super) fn keeping(&self, session: Option<Arc<Recorder>>) -> Option<Keeping> {
        let Options { trails, clock, .. } = &self.options;
        trails.any(&self.declared).then(|| Keeping::new(trails.entries, trails.age, clock.clone(), session))
    }
}

impl AsRef<Declared> for Asked {
    fn as_ref(&self) -> &Declared {
        &self.declared
    }
}

/// The state of the file at the path, read once for each attempt to open it.
pub(super) struct Looked {
    pub(super) file: Option<Seen>,
    pub(super) is_open_here: bool,
}

impl Looked {
    pub(super) fn at(path: &Path) -> Looked {
        Looked { file: seen(path).ok(), is_open_here: is_open_here(path) }
    }

    /// Whether nothing is there, or in it. The engine takes one byte for none.
    pub(super) fn is_empty(&self) -> bool {
        self.file.as_ref().is_none_or(|file| file.bytes <= 1)
    }

    /// Whether another file is at the path by now.
    pub(super) fn is_replaced(&self, path: &Path) -> bool {
        self.file.as_ref().is_some_and(|file| identity(path).ok() != Some(file.identity))
    }
}
