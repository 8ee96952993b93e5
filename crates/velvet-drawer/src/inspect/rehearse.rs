//! Running an upgrade on a copy.

use super::file::File;
use crate::device::temporary;
use crate::engine::{Opener, copy_from};
use crate::error::{Cause, Doing, Error};
use crate::evolve::{self, Upgraded, Watch, milliseconds};
use crate::opening::{Found, recognise};
use crate::schema::{Code, Declared, Schema};
use crate::sealing::Sealing;
use serde::Serialize;
use std::borrow::Cow;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};
use velvet_core::evolve::History;
use velvet_core::sealing::keys::KeyKeeper;

/// How an upgrade went on a copy.
#[derive(Clone, Debug, Serialize)]
pub struct Rehearsal {
    /// What the upgrade did; nothing when the file is at the newest version.
    #[serde(flatten)]
    pub upgraded: Option<Upgraded>,
    /// The app's code that was left out, because only the app has it.
    pub left_out: Vec<String>,
    /// How many bytes the file had before.
    pub bytes_before: u64,
    /// How many bytes it has afterwards.
    pub bytes_after: u64,
    /// How long it took.
    #[serde(rename = "took_ms", serialize_with = "milliseconds")]
    pub took: Duration,
}

impl File {
    /// Upgrades a complete copy of the file as `schema` would, with the app's own code, and says how that went. The file
    /// itself is not changed. What an upgrade seals is sealed with a key that is gone afterwards; see [`File::rehearse_with_keys`] for what is sealed already.
    ///
    /// # Errors
    /// As opening the file with `schema` would; [`Error::is_key_missing`] where the upgrade reads what is sealed.
    pub fn rehearse(&self, schema: &Schema) -> Result<Rehearsal, Error> {
        let declared = schema.clone().declared()?;
        let sealing = Sealing::trying(&declared.structure, None)?;
        self.rehearse_declared(declared, sealing, Vec::new())
    }

    /// As [`File::rehearse`], for a file with sealed values that the upgrade or the app's own code reads. The keys are found in `keys`; none is kept there or
    /// forgotten.
    ///
    /// # Errors
    /// As opening the file with `schema` and `keys` would.
    ///
    /// ```
    /// use velvet_drawer::inspect::File;
    /// # use velvet_drawer::{Drawer, KeysInMemory, Record, Schema};
    /// # #[derive(Record)] struct Guest { #[record(sealed)] phone: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("a.drawer");
    /// # let schema = Schema::new("kilnbook").record::<Guest>();
    /// # let keys = KeysInMemory::default();
    /// # let keys_of_device = || keys.clone();
    /// # Drawer::options().keys(keys.clone()).open(&path, schema.clone())?.close()?;
    /// let rehearsal = File::open(&path)?.rehearse_with_keys(&schema, keys_of_device())?;
    /// assert!(rehearsal.upgraded.is_none(), "it is at the newest version");
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn rehearse_with_keys(&self, schema: &Schema, keys: impl KeyKeeper) -> Result<Rehearsal, Error> {
        let declared = schema.clone().declared()?;
        let sealing = Sealing::trying(&declared.structure, Some(Arc::new(keys)))?;
        self.rehearse_declared(declared, sealing, Vec::new())
    }

    /// Upgrades a complete copy of the file to the newest version of `history`. The app's code and its keys are left out,
    /// because only the app has them.
    ///
    /// # Errors
    /// When the history does not add up, and as opening the file with it would.
    pub fn rehearse_history(&self, history: &str) -> Result<Rehearsal, Error> {
        let problem =
            |p: velvet_core::evolve::HistoryProblem| Error::new(Cause::BadQuery, p.to_string()).in_file(self.path());
        let parsed = History::parse(history).map_err(problem)?;
        let codes: Vec<String> = parsed.codes().map(str::to_owned).collect();
        let declared = Declared {
            app: parsed.app.clone(),
            version: parsed.newest,
            structure: parsed.structure(parsed.newest).map_err(problem)?,
            fingerprint: parsed.fingerprint.clone(),
            history: Some(Cow::Owned(history.to_owned())),
            codes: codes.iter().map(|name| (name.clone(), Code::new(|_| Ok(())))).collect(),
            types: Vec::new(),
            sealed_settings: Vec::new(),
            app_version: None,
            sealing: Sealing::default(),
        };
        let sealing = Sealing::trying(&declared.structure, None)?;
        self.rehearse_declared(declared, sealing, codes)
    }

    fn rehearse_declared(
        &self,
        mut declared: Declared,
        sealing: Sealing,
        codes: Vec<String>,
    ) -> Result<Rehearsal, Error> {
        let doing = "cannot rehearse the upgrade";
        declared.sealing = sealing;
        let rehearse = || {
            let folder = temporary::folder().map_err(|e| Error::device(doing, &e))?;
            let copy = folder.path().join("rehearsal.drawer");
            self.read(doing, |c| Ok(copy_from(c, &copy)?))?;
            let bytes = |path: &Path| std::fs::metadata(path).map_or(0, |m| m.len());
            let bytes_before = bytes(&copy);
            let begun = Instant::now();
            let mut connection = Opener::new(&copy).relaxed().sealing(declared.sealing.seals()).writer()?;
            let cancel = &self.limits().cancel;
            connection.bound(cancel, Duration::MAX, u64::MAX)?;
            let upgraded = match recognise(&connection, &declared)? {
                Found::Older(from) => {
                    connection.use_wal()?;
                    // No path: what a backup would hold is the file itself.
                    cancel.during(|| evolve::upgrade(&connection, &declared, from, None, &Watch::default()))?
                }
                Found::Current { .. } | Found::Fresh => None,
            };
            connection.close()?;
            let from = upgraded.as_ref().map_or(declared.version, |u| u.from);
            let left_out = codes.into_iter().filter(|name| runs_after(&declared, from, name)).collect();
            Ok::<_, Error>(Rehearsal {
                upgraded,
                left_out,
                bytes_before,
                bytes_after: bytes(&copy),
                took: begun.elapsed(),
            })
        };
        let untouched = || "The file itself was not touched: this was a copy";
        rehearse().doing(|| doing).untouched(untouched).in_file(self.path())
    }
}

/// Whether a version after `from` runs the code with this name.
fn runs_after(declared: &Declared, from: u32, name: &str) -> bool {
    use velvet_core::evolve::Step;
    let history = History::parse(declared.history.as_deref().unwrap_or_default());
    history
        .is_ok_and(|h| h.since(from).flat_map(|v| &v.steps).any(|c| matches!(c, Step::Code { name: n } if n == name)))
}
