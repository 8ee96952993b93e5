//! Keys that are made of what a user remembers.

use crate::engine::SALT;
use crate::error::{Cause, Error};
use argon2::{Algorithm, Argon2, Params, Version};
use std::fmt;
use velvet_core::sealing::SecretKey;
use zeroize::Zeroizing;

/// What a user remembers, of which the key of a file is made with Argon2id, and how much work that is.
///
/// A short phrase is found by trying, however much work each attempt is: a key that the device's own store keeps is better wherever there is one. The cost is
/// not in the file: it has to be the same each time.
///
/// ```
/// use velvet_drawer::{FileKey, PassPhrase};
/// let key = FileKey::of_pass_phrase(PassPhrase::new("four pots in the cellar"));
/// # let _ = key;
/// ```
#[derive(Clone)]
pub struct PassPhrase {
    phrase: Zeroizing<String>,
    memory: u32,
    passes: u32,
}

impl PassPhrase {
    /// The memory that making a key takes unless said otherwise, in KiB: 64 MiB.
    pub const MEMORY: u32 = 64 * 1024;

    /// How often that memory is gone over unless said otherwise.
    pub const PASSES: u32 = 3;

    /// That with these words, and the cost of [`PassPhrase::MEMORY`] and [`PassPhrase::PASSES`]: about a fifth of a second on a desktop computer.
    pub fn new(phrase: impl Into<String>) -> PassPhrase {
        PassPhrase { phrase: Zeroizing::new(phrase.into()), memory: PassPhrase::MEMORY, passes: PassPhrase::PASSES }
    }

    /// Another cost: the memory in KiB, at least 8, and how often to go over it, at least once. A file that was made with one cost opens only with that.
    #[must_use]
    pub fn cost(mut self, memory: u32, passes: u32) -> PassPhrase {
        (self.memory, self.passes) = (memory, passes);
        self
    }

    /// The key of the file with this salt.
    pub(super) fn key(&self, salt: &[u8; SALT]) -> Result<SecretKey, Error> {
        let mut key = Zeroizing::new([0; 32]);
        let made = Params::new(self.memory, self.passes, 1, Some(key.len())).and_then(|params| {
            Argon2::new(Algorithm::Argon2id, Version::V0x13, params).hash_password_into(
                self.phrase.as_bytes(),
                salt,
                &mut *key,
            )
        });
        made.map_err(|error| {
            let problem = format!(
                "no key can be made of the pass phrase with {} KiB of memory and {} passes ({error})",
                self.memory, self.passes
            );
            Error::bare(Cause::Schema, problem).advise("Give PassPhrase::cost at least 8 KiB and one pass")
        })?;
        Ok(SecretKey::from_bytes(*key))
    }
}

impl fmt::Debug for PassPhrase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PassPhrase").field("memory", &self.memory).field("passes", &self.passes).finish_non_exhaustive()
    }
}
