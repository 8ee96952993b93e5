//! Drawers without a file: in memory, from bytes and as bytes.

use super::address::IN_MEMORY;
use super::{Connection, Fault, PAGE, ciphers};
#[cfg(feature = "encryption")]
use super::{FileCipher, Opener, learn, rewriting};
use rusqlite::MAIN_DB;
use std::path::PathBuf;
#[cfg(feature = "encryption")]
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// Where the header says which kind of log the file uses: 1 for none, 2 for one beside it.
const LOG_KIND: std::ops::RangeInclusive<usize> = 18..=19;

/// A place in memory that all connections of one drawer share, and no other.
pub(crate) fn memory_place() -> PathBuf {
    static NEXT: AtomicU64 = AtomicU64::new(1);
    PathBuf::from(format!("{IN_MEMORY}{}?vfs=memdb", NEXT.fetch_add(1, Ordering::Relaxed)))
}

/// Fills the empty drawer behind `target` with the database in `bytes`.
pub(crate) fn pour_bytes(bytes: &[u8], target: &mut Connection, wait: Duration) -> Result<(), Fault> {
    let mut bytes = bytes.to_vec();
    if let Some(kind) = bytes.get_mut(LOG_KIND) {
        // Bytes have no log beside them, and memory has no place for one.
        kind.fill(1);
    }
    let mut source = rusqlite::Connection::open_in_memory()?;
    source.deserialize_read_exact(MAIN_DB, bytes.as_slice(), bytes.len(), true)?;
    let backup = rusqlite::backup::Backup::new(&source, &mut target.engine)?;
    backup.run_to_completion(1024, wait, None)?;
    Ok(())
}

/// Fills the empty drawer behind `target` with the encrypted database in `bytes`.
#[cfg(feature = "encryption")]
pub(crate) fn pour_encrypted(bytes: &[u8], cipher: FileCipher, target: &mut Connection) -> Result<(), Fault> {
    let cipher = learn(cipher);
    let folder = crate::device::temporary::folder().map_err(|error| Fault::device(&error))?;
    let path = folder.path().join("bytes");
    std::fs::write(&path, bytes).map_err(|error| Fault::device(&error))?;
    let place = path.to_string_lossy();
    let file = Opener::new(&path).encrypted(Some(Arc::clone(&cipher))).reader()?;
    let settings = rewriting::settings_of(&file.engine)?;
    file.close()?;
    let source = rusqlite::Connection::open_in_memory()?;
    source.execute_batch(&settings)?;
    source.execute("ATTACH ?1 AS source KEY ?2", [place.as_ref(), &ciphers::as_text(&cipher)])?;
    rewriting::written_in_the_clear(&source)?;
    rewriting::refuse_unproven(&source)?;
    rusqlite::backup::Backup::new(&source, &mut target.engine)?.run_to_completion(1024, Duration::ZERO, None)?;
    Ok(())
}

/// The whole database as bytes, as a file would hold them: encrypted where the file is.
pub(crate) fn bytes_of(connection: &Connection) -> Result<Vec<u8>, Fault> {
    // The engine hands out the bytes of a connection it may change; the drawer's own stays as it is.
    let mut copy = rusqlite::Connection::open_in_memory()?;
    let cipher = connection.cipher.as_deref();
    cipher.map_or(Ok(()), |cipher| ciphers::give_key(&copy, cipher))?;
    rusqlite::backup::Backup::new(&connection.engine, &mut copy)?.run_to_completion(1024, Duration::ZERO, None)?;
    connection.refuse_unproven()?;
    let mut bytes = copy.serialize(MAIN_DB)?.to_vec();
    if let Some(cipher) = cipher {
        // The engine hands them out in the clear.
        for (page, number) in bytes.chunks_exact_mut(PAGE).zip(1..) {
            let page = page.try_into().unwrap_or_else(|_| unreachable!("it has the length of a page"));
            ciphers::close(cipher, number, page).map_err(|error| Fault::device(&error))?;
        }
    }
    Ok(bytes)
}
