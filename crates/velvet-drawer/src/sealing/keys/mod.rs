//! Keys that a keeper has: asking for them, and having it keep new ones.

mod in_memory;

pub use in_memory::KeysInMemory;

use crate::error::{Cause, Error};
use velvet_core::sealing::SecretKey;
use velvet_core::sealing::keys::{KeyKeeper, KeyRefusal};
use zeroize::Zeroizing;

/// The key with this name; nothing where there is none.
pub(crate) fn found(keeper: &dyn KeyKeeper, name: &str) -> Result<Option<SecretKey>, Error> {
    keeper.find(name).map_err(|refusal| refused("cannot be asked for", name, &refusal))
}

/// Makes a key, and has it kept.
pub(crate) fn made(keeper: &dyn KeyKeeper, name: &str) -> Result<SecretKey, Error> {
    let ask = || keeper.find(name).map_err(|refusal| refused("cannot be asked for", name, &refusal));
    // Never over another: whoever answers to a name that chance made has its own key for it.
    let key = match ask()? {
        Some(key) => key,
        None => {
            let new = SecretKey::from_bytes(*Zeroizing::new(random()?));
            keeper.keep(name, &new).map_err(|refusal| refused("cannot be kept", name, &refusal))?;
            new
        }
    };
    // Nothing is written with a key that would not be there the next time.
    let problem = match ask()? {
        Some(kept) if kept == key => return Ok(key),
        Some(_) => format!("the keeper answers with different keys to the same name {name:?}"),
        None => format!("the key {name:?} was given to its keeper, which does not have it now"),
    };
    Err(Error::bare(Cause::KeyMissing, problem).advise("See what the device's store of keys reports"))
}

/// Has a key forgotten.
pub(crate) fn forgotten(keeper: &dyn KeyKeeper, name: &str) -> Result<(), Error> {
    keeper.forget(name).map_err(|refusal| refused("cannot be forgotten", name, &refusal))
}

/// Bytes that nobody can guess.
pub(crate) fn random<const N: usize>() -> Result<[u8; N], Error> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|error| {
        Error::bare(Cause::Device, format!("the system has no randomness to make a key of ({error})"))
    })?;
    Ok(bytes)
}

#[cold]
fn refused(what: &str, name: &str, refusal: &KeyRefusal) -> Error {
    let problem = format!("the key {name:?} {what}: its keeper says that {refusal}");
    match refusal {
        KeyRefusal::Locked => Error::bare(Cause::KeyLocked, problem).advise("Try again once the device is unlocked"),
        KeyRefusal::Failed(_) => {
            Error::bare(Cause::KeyMissing, problem).advise("See what the device's store of keys reports")
        }
    }
}
