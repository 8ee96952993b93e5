//! Encrypted files: their keys, as far as this process knows them, and how a connection is given one.

use super::open_here::open_with;
use super::{Fault, FaultKind};
use std::collections::HashMap;
use std::fs;
use std::io::{self, Read};
use std::path::Path;
use std::sync::{Arc, LazyLock, Mutex, MutexGuard, PoisonError, Weak};
pub(crate) use velvet_core::file_cipher::{FileCipher, PAGE, SALT};
use velvet_core::hex;
use zeroize::Zeroizing;

/// The keys that this process knows, by the salts of the files that they are of, as long as somebody holds them.
static KNOWN: LazyLock<Mutex<HashMap<[u8; SALT], Weak<FileCipher>>>> = LazyLock::new(Mutex::default);

fn known_ones() -> MutexGuard<'static, HashMap<[u8; SALT], Weak<FileCipher>>> {
    KNOWN.lock().unwrap_or_else(PoisonError::into_inner)
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
    if known_ones().is_empty() {
        return None;
    }
    let salt = salt(path).ok()??;
    known_ones().get(&salt).and_then(Weak::upgrade)
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

/// Gives a new connection its key, before anything else is said to it.
pub(super) fn give_key(engine: &rusqlite::Connection, cipher: &FileCipher) -> Result<(), Fault> {
    // Its own log would go to the standard error of the app.
    engine.execute_batch("PRAGMA cipher_log_level = NONE")?;
    let key = Zeroizing::new(format!("PRAGMA key = \"{}\"", *as_text(cipher)));
    engine.execute_batch(&key)?;
    require_ciphers(engine)
}

/// Encrypts the page with this number, in its place.
pub(super) fn close(cipher: &FileCipher, number: u32, page: &mut [u8; PAGE]) -> io::Result<()> {
    let mut vector = [0; 16];
    getrandom::fill(&mut vector).map_err(io::Error::other)?;
    cipher.close(number, page, vector);
    Ok(())
}

/// The key as the engine takes it, with the salt.
pub(super) fn as_text(cipher: &FileCipher) -> Zeroizing<String> {
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
