//! The keys of encrypted files: from a file or a prompt, never from the command line, which others on the device can see.

use crate::args::KeySource;
use crate::clean::named;
use crate::failure::Failure;
use std::fs;
use std::path::Path;
use std::sync::{Mutex, OnceLock, PoisonError};
use velvet_drawer::inspect::encrypted_in;
use velvet_drawer::{FileKey, PassPhrase, SecretKey, Unlocked};
use zeroize::Zeroizing;

/// The keys that were given.
static GIVEN: OnceLock<Vec<FileKey>> = OnceLock::new();

/// What keeps the files unlocked, to the end of the command.
static UNLOCKED: Mutex<Vec<Unlocked>> = Mutex::new(Vec::new());

/// Takes the keys that the arguments name, and asks for one where that is wished for.
pub(crate) fn take(from: &KeySource) -> Result<(), Failure> {
    if !matches!(from.cost.len(), 0 | 2) {
        return Err(Failure::new("--cost takes two numbers: memory in KiB, and passes, such as 65536,3"));
    }
    let mut keys = Vec::new();
    for path in &from.key_file {
        let bytes = fs::read(path).map(Zeroizing::new);
        let bytes = bytes.map_err(|e| Failure::new(format!("the key file {} cannot be read: {e}", named(path))))?;
        keys.push(key(&bytes, from, &named(path))?);
    }
    if from.ask_key {
        let typed = rpassword::prompt_password("Key or pass phrase: ").map(Zeroizing::new);
        let typed = typed.map_err(|e| Failure::new(format!("the key cannot be asked for: {e}")))?;
        keys.push(key(typed.as_bytes(), from, "what was typed")?);
    }
    // They are taken once, before anything looks.
    let _ = GIVEN.set(keys);
    Ok(())
}

/// The key that these bytes are: 32 of them, 64 hexadecimal digits, or a pass phrase.
fn key(bytes: &[u8], from: &KeySource, what: &str) -> Result<FileKey, Failure> {
    let line = bytes.split(|byte| matches!(byte, b'\n' | b'\r')).next().unwrap_or_default();
    let digit = |byte: &u8| char::from(*byte).to_digit(16).and_then(|digit| u8::try_from(digit).ok());
    let digits: Option<Zeroizing<Vec<u8>>> = line.iter().map(digit).collect::<Option<Vec<u8>>>().map(Zeroizing::new);
    if let Some(digits) = digits.filter(|digits| digits.len() == 64) {
        let mut key = Zeroizing::new([0; 32]);
        key.iter_mut().zip(digits.chunks_exact(2)).for_each(|(byte, pair)| *byte = pair[0] << 4 | pair[1]);
        return Ok(FileKey::of_bytes(SecretKey::from_bytes(*key)));
    }
    let text = std::str::from_utf8(line).ok().filter(|text| !text.is_empty());
    match (text, <[u8; 32]>::try_from(bytes)) {
        (None, Ok(key)) => Ok(FileKey::of_bytes(SecretKey::from_bytes(key))),
        (None, Err(_)) => Err(Failure::new(format!(
            "{what} is no key: 64 hexadecimal digits, 32 bytes, or a pass phrase in the first line"
        ))),
        (Some(phrase), _) => {
            let phrase = PassPhrase::new(phrase);
            Ok(FileKey::of_pass_phrase(match from.cost[..] {
                [memory, passes] => phrase.cost(memory, passes),
                _ => phrase,
            }))
        }
    }
}

/// Unlocks the file, or all files in the folder, at a path, where a key was given that is theirs.
pub(crate) fn unlock(path: &Path) -> Result<(), Failure> {
    let keys = GIVEN.get().map_or(&[][..], |keys| keys);
    if keys.is_empty() {
        return Ok(());
    }
    if path.is_dir() {
        // What does not open is named where it is listed.
        encrypted_in(path)?.iter().for_each(|found| drop(unlock_file(&found.path, keys)));
        return Ok(());
    }
    unlock_file(path, keys)
}

fn unlock_file(path: &Path, keys: &[FileKey]) -> Result<(), Failure> {
    let mut refused = Ok(());
    for key in keys {
        match key.unlock(path) {
            Ok(unlocked) => {
                UNLOCKED.lock().unwrap_or_else(PoisonError::into_inner).push(unlocked);
                return Ok(());
            }
            Err(error) if error.is_wrong_key() => refused = Err(error.into()),
            // What else is wrong is said by whoever opens it; a plain file needs no key.
            Err(_) => return Ok(()),
        }
    }
    refused
}
