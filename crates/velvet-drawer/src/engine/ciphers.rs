//! Encrypted files: their keys, as far as this process knows them, and how a connection is given one.

use super::log_beside::pages_of_log;
use super::open_here::{PastEngine, open_with};
use super::{Fault, FaultKind};
use parking_lot::{Mutex, MutexGuard};
use std::collections::HashMap;
use std::fs;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::{Arc, LazyLock, OnceLock, Weak};
use std::thread;
use std::time::{Duration, Instant};
use velvet_core::file::header::MAGIC;
use velvet_core::sealing::SecretKey;
pub(crate) use velvet_core::sealing::file_cipher::{FileCipher, PAGE, RESERVED, SALT};
use velvet_core::value::hex;
use zeroize::Zeroizing;

/// The keys that this process knows, by the salts of the files that they are of, as long as somebody holds them.
static KNOWN: LazyLock<Mutex<HashMap<[u8; SALT], Weak<FileCipher>>>> = LazyLock::new(Mutex::default);

/// The key of every encrypted file, for tests that are to run with keys and say nothing of them.
static ALWAYS: OnceLock<SecretKey> = OnceLock::new();

/// Every encrypted file has this key from now on, where nothing else is said.
pub(crate) fn always(key: SecretKey) {
    // It is said once.
    let _ = ALWAYS.set(key);
}

/// The key that every encrypted file has, where that was said.
pub(crate) fn key_of_all() -> Option<&'static SecretKey> {
    ALWAYS.get()
}

fn known_ones() -> MutexGuard<'static, HashMap<[u8; SALT], Weak<FileCipher>>> {
    KNOWN.lock()
}

/// Lets this process open the files with this salt, as long as what is returned is held.
pub(crate) fn learn(cipher: FileCipher) -> Arc<FileCipher> {
    let mut known = known_ones();
    known.retain(|_, cipher| cipher.strong_count() > 0);
    match known.get(&cipher.salt()).and_then(Weak::upgrade) {
        Some(same) if *same == cipher => same,
        _ => {
            let cipher = Arc::new(cipher);
            known.insert(cipher.salt(), Arc::downgrade(&cipher));
            cipher
        }
    }
}

/// The key of the file at a path, where it is encrypted and this process knows it.
pub(crate) fn known(path: &Path) -> Option<Arc<FileCipher>> {
    // Closing a handle of ours would drop the locks on a file that is open.
    if let Some(cipher) = open_with(path) {
        return cipher;
    }
    if known_ones().is_empty() && key_of_all().is_none() {
        return None;
    }
    let salt = {
        let _past_engine = PastEngine::begin(path)?;
        salt(path).ok()??
    };
    let known = known_ones().get(&salt).and_then(Weak::upgrade);
    let of_all = || {
        let cipher = FileCipher::new(key_of_all().filter(|_| salt != *MAGIC)?.clone(), salt);
        fits(&cipher, path).is_ok_and(|fits| fits).then(|| Arc::new(cipher))
    };
    known.or_else(of_all)
}

/// What an encrypted file begins with; nothing where it is shorter than that. The caller has seen to it that this process does not have it open.
fn salt(path: &Path) -> io::Result<Option<[u8; SALT]>> {
    let mut salt = [0; SALT];
    match fs::File::open(path)?.read_exact(&mut salt) {
        Ok(()) => Ok(Some(salt)),
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => Ok(None),
        Err(error) => Err(error),
    }
}

/// How many pages to try a key on.
const TRIED: u64 = 64;

/// Whether any page of the file at `path`, or of the log beside it, is written with this key. The first alone may be damaged. The caller has seen to it that
/// this process does not have the file open.
pub(crate) fn fits(cipher: &FileCipher, path: &Path) -> io::Result<bool> {
    let Some(_past_engine) = PastEngine::begin(path) else { return Ok(false) };
    let mut file = fs::File::open(path)?;
    let pages = file.metadata()?.len() / PAGE as u64;
    let step = (pages / TRIED).max(1);
    let mut page = vec![0; PAGE];
    for at in (0..pages).step_by(usize::try_from(step).unwrap_or(usize::MAX)) {
        file.seek(SeekFrom::Start(at * PAGE as u64))?;
        file.read_exact(&mut page)?;
        if u32::try_from(at + 1).is_ok_and(|number| cipher.is_page(number, &page)) {
            return Ok(true);
        }
    }
    Ok(pages_of_log(path, TRIED as usize)?.iter().any(|(number, page)| cipher.is_page(*number, page)))
}

/// Gives a new connection its key, before anything else is said to it.
pub(super) fn give_key(engine: &rusqlite::Connection, cipher: &FileCipher) -> Result<(), Fault> {
    // Its own log would go to the standard error of the app.
    engine.execute_batch("PRAGMA cipher_log_level = NONE")?;
    require_ciphers(engine)?;
    let key = Zeroizing::new(format!("PRAGMA key = \"{}\"", *as_text(cipher)));
    let deadline = Instant::now() + UNTIL_READY;
    loop {
        match engine.execute_batch(&key) {
            Err(_) if Instant::now() < deadline => thread::sleep(Duration::from_millis(1)),
            given => return Ok(given?),
        }
    }
}

/// How long to try: where threads use the engine for the first time at once, it takes connections before its ciphers are ready.
const UNTIL_READY: Duration = Duration::from_secs(2);

/// Encrypts the page with this number, in its place.
pub(super) fn close(cipher: &FileCipher, number: u32, page: &mut [u8; PAGE]) -> io::Result<()> {
    let mut vector = [0; 16];
    getrandom::fill(&mut vector).map_err(io::Error::other)?;
    cipher.close(number, page, vector);
    Ok(())
}

/// The key as the engine takes it, with the salt.
pub(crate) fn as_text(cipher: &FileCipher) -> Zeroizing<String> {
    let key = Zeroizing::new(hex::hex(cipher.key().expose()));
    Zeroizing::new(format!("x'{}{}'", *key, hex::hex(&cipher.salt())))
}

/// An engine without ciphers takes a key without a word, and writes in the clear.
fn require_ciphers(engine: &rusqlite::Connection) -> Result<(), Fault> {
    let version = engine.query_row("PRAGMA cipher_version", [], |row| row.get::<_, String>(0));
    match version {
        Ok(version) if !version.is_empty() => Ok(()),
        _ => {
            let message = "the engine was built without ciphers, so that nothing would be encrypted".into();
            Err(Fault { kind: FaultKind::Other, message })
        }
    }
}
