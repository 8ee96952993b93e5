//! Reading a file without leaving a trace on it, or beside it.
//!
//! The engine has no one way of doing so; which way is right depends on what stands beside the file.

use super::log_beside::refuse_to_lose_wal;
use super::open_here::{HeldFiles, PastEngine, looks_are_closed, looks_into};
use super::{Connection, Fault, FaultKind, FileCipher, known};
use crate::device::companions::with_companions;
use crate::device::temporary;
use crate::work::cancel::Cancel;
use rusqlite::hooks::{AuthAction, AuthContext, Authorization};
use rusqlite::{OpenFlags, ffi};
use std::cell::RefCell;
use std::ffi::OsString;
use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use velvet_core::file::wal::{self, WalHeader};

/// How long a reader waits for a program that is writing.
const WAIT: Duration = Duration::from_secs(5);

/// A file that is only read, without a trace.
pub(crate) struct Traceless {
    path: PathBuf,
    cancel: Cancel,
    within: Duration,
    look: Arc<HeldFiles<Look>>,
}

/// What a look has open.
struct Look {
    connection: Connection,
    before: Vec<Standing>,
    frozen: bool,
    /// A copy that is read in place of the file, removed when this is dropped.
    _copy: Option<tempfile::TempDir>,
}

/// What can be seen of a file from outside.
type Standing = Option<(u64, Option<SystemTime>)>;

impl Traceless {
    /// Opens the file at `path` for reading, bounded as [`Connection::bound`] says.
    pub(super) fn open(path: &Path, cancel: &Cancel, within: Duration) -> Result<Traceless, Fault> {
        let look = Arc::new(HeldFiles::new(RefCell::default()));
        let opened = Traceless { path: path.to_owned(), cancel: cancel.clone(), within, look };
        opened.read(|_| Ok::<_, Fault>(()))?;
        Ok(opened)
    }

    /// Runs `read`. Where the file was taken for one at rest and something changed it meanwhile, says so, because what
    /// was read may be torn.
    pub(crate) fn read<R, E: From<Fault>>(&self, read: impl FnOnce(&Connection) -> Result<R, E>) -> Result<R, E> {
        let (held, is_open_here) = loop {
            let held = self.look.lock();
            // It is new, or somebody opened the file to use it.
            let is_open_here = if held.borrow().is_none() { looks_into(&self.path, &self.look) } else { Some(false) };
            if let Some(is_open_here) = is_open_here {
                break (held, is_open_here);
            }
            drop(held);
            looks_are_closed(&self.path)?;
        };
        if held.borrow().is_none() {
            let mut look = Look::open(&self.path, is_open_here)?;
            let bytes = look.before.iter().flatten().map(|(bytes, _)| bytes).sum();
            look.connection.bound(&self.cancel, self.within, bytes)?;
            held.replace(Some(look));
        }
        let look = held.borrow();
        let Some(look) = &*look else { return Err(changed_meanwhile().into()) };
        let result = read(&look.connection);
        if look.frozen && standing(&self.path) != look.before {
            return Err(changed_meanwhile().into());
        }
        result
    }
}

impl Drop for Traceless {
    fn drop(&mut self) {
        // Closed under its lock: whoever opens the file to use it waits until it is.
        self.look.lock().take();
    }
}

impl Look {
    fn open(path: &Path, is_open_here: bool) -> Result<Look, Fault> {
        let before = standing(path);
        let cipher = known(path);
        if is_open_here {
            // What stands beside it is there already, and changes at any moment.
            let connection = open(path, "mode=ro", cipher)?;
            return Ok(Look { connection, before, frozen: false, _copy: None });
        }
        refuse_to_lose_wal(path, with_companions(path).nth(1).filter(|wal| wal.exists()).as_deref())?;
        let present = |at: usize| before[at].is_some_and(|(size, _)| size > 0);
        let is_idle = |at: usize| {
            let written = before[at].and_then(|(_, at)| at);
            written.and_then(|at| at.elapsed().ok()).is_some_and(|ago| ago > WAIT)
        };
        let nothing_counts = present(1) && has_nothing_in_its_log(path);
        let (log, journal) = (present(1) && !(nothing_counts && is_idle(1)), present(3));
        let shared = present(2) && !is_of_another_log(path);
        if journal || (log && (nothing_counts || !cfg!(unix))) {
            // The engine would have to write to find the way back out of an unfinished transaction. Or a program may be about to go on with its
            // log, so the file is not at rest.
            let copy = copied(path)?;
            if nothing_counts && standing(path) != before {
                return Err(changed_meanwhile());
            }
            let connection = open(&copy.path().join("copy"), "", cipher)?;
            return Ok(Look { connection, before, frozen: false, _copy: Some(copy) });
        }
        let way = match (log, shared) {
            (false, _) => "immutable=1",
            (true, true) => "readonly_shm=1",
            (true, false) => "vfs=unix-none",
        };
        let connection = open(path, way, cipher)?;
        if log && !shared {
            connection.keep_others_out()?;
        }
        connection.keep_wal_on_close(true);
        connection.keep_decrypted();
        Ok(Look { connection, before, frozen: !log, _copy: None })
    }
}

fn changed_meanwhile() -> Fault {
    let message = "the file was changed by another program while it was read".into();
    Fault { kind: FaultKind::Locked, message }
}

fn open(path: &Path, way: &str, cipher: Option<Arc<FileCipher>>) -> Result<Connection, Fault> {
    let flags = if way.is_empty() {
        OpenFlags::SQLITE_OPEN_READ_WRITE
    } else {
        OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI
    };
    let place = if way.is_empty() { path.as_os_str().to_owned() } else { address(path, way) };
    let connection = rusqlite::Connection::open_with_flags(place, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
    let mut connection = Connection::with_key(connection, cipher)?;
    connection.wait_for_others(WAIT)?;
    connection.use_temporary_folder();
    let guard = connection.guard.clone();
    connection.engine.authorizer(Some(move |context: AuthContext<'_>| match only_reads(&context) {
        Authorization::Allow => guard.decide(&context),
        refused => refused,
    }))?;
    connection.prepare_for_us()?;
    Ok(connection)
}

/// Keeps statements that a person typed from reaching anything but this file. That they write nothing is up to the
/// connection, which cannot.
fn only_reads(context: &AuthContext<'_>) -> Authorization {
    match context.action {
        AuthAction::Attach { .. } | AuthAction::Detach { .. } => Authorization::Deny,
        AuthAction::Function { function_name } if function_name.eq_ignore_ascii_case("load_extension") => {
            Authorization::Deny
        }
        _ => Authorization::Allow,
    }
}

fn address(path: &Path, way: &str) -> OsString {
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    super::address::address(path.as_os_str().as_encoded_bytes(), cfg!(windows), way).into()
}

/// Whether nothing in the write-ahead log beside a file counts: it has only its header, as after a kill before the first frame, or the header is
/// damaged. The engine would look for that header in shared memory, and try until its patience ends. The file alone is all there is.
fn has_nothing_in_its_log(path: &Path) -> bool {
    let Some(Ok(mut log)) = with_companions(path).nth(1).map(fs::File::open) else { return false };
    let (mut header, mut more) = ([0; wal::HEADER], [0]);
    log.read_exact(&mut header).is_err() || WalHeader::read(&header).is_none() || log.read_exact(&mut more).is_err()
}

/// Whether the shared memory that stands beside a file is none of the write-ahead log beside it, because they were copied at different moments.
/// The engine would wait long for somebody to put it right.
fn is_of_another_log(path: &Path) -> bool {
    let Some(_past_engine) = PastEngine::begin(path) else { return false };
    let start = |which: usize, bytes: u64| {
        let path = with_companions(path).nth(which)?;
        let mut start = Vec::new();
        fs::File::open(path).ok()?.take(bytes).read_to_end(&mut start).ok()?;
        (start.len() as u64 == bytes).then_some(start)
    };
    let (Some(log), Some(shared)) = (start(1, 32), start(2, 48)) else { return false };
    // A write-ahead log that begins anew is told of in shared memory first, as one in which nothing is yet.
    shared[16..20] != [0; 4] && shared[32..40] != log[16..24]
}

fn standing(path: &Path) -> Vec<Standing> {
    with_companions(path).map(|p| fs::metadata(p).ok().map(|m| (m.len(), m.modified().ok()))).collect()
}

/// A copy of the file and its companions.
fn copied(path: &Path) -> Result<tempfile::TempDir, Fault> {
    let _past_engine = PastEngine::begin(path).ok_or_else(changed_meanwhile)?;
    let folder = temporary::folder()
        .map_err(|error| Fault { kind: FaultKind::NoTemporaryFolder, message: error.to_string() })?;
    for (from, to) in with_companions(path).zip(with_companions(&folder.path().join("copy"))) {
        match fs::copy(from, to) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(Fault::device(&error)),
            _ => {}
        }
    }
    Ok(folder)
}

const _: () = assert!(ffi::SQLITE_VERSION_NUMBER >= 3_037_000, "STRICT tables need this version of the engine");
