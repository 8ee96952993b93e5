//! How the pages of an encrypted file are written, so that they can be told and read past the engine.
//!
//! A page has [`PAGE`] bytes, of which the last [`RESERVED`] hold a random vector (16 bytes) and a proof (64 bytes). What stands before is encrypted with
//! AES-256 in CBC mode by the file's key and that vector. The proof is HMAC-SHA-512 of the encrypted bytes, the vector and the number of the page
//! (four bytes, the smallest first); its key is derived from the file's key with PBKDF2-HMAC-SHA-512 in two rounds, with the file's salt, each byte
//! of it XORed with `0x3a`. The first 16 bytes of the first page are the salt, which is no secret and belongs to this file alone; they are not encrypted, and
//! stand where a plain file has the name of its format. A page of nothing but zeros is one that was never written.

use crate::file::header::MAGIC;
use crate::sealing::SecretKey;
use aes::Aes256;
use aes::cipher::block_padding::NoPadding;
use aes::cipher::{BlockDecryptMut, BlockEncryptMut, KeyIvInit};
use hmac::{Hmac, Mac};
use sha2::Sha512;
use std::fmt;
use zeroize::Zeroizing;

/// How many bytes a page has.
pub const PAGE: usize = 4096;

/// How many of them are not content.
pub const RESERVED: usize = VECTOR + PROOF;

/// How many bytes a file's salt has.
pub const SALT: usize = 16;

const VECTOR: usize = 16;
const PROOF: usize = 64;

/// The key of an encrypted file, and the salt that tells the file from others.
pub struct FileCipher {
    key: SecretKey,
    salt: [u8; SALT],
    proof_key: Zeroizing<[u8; 32]>,
}

impl FileCipher {
    /// That of the file with this salt.
    pub fn new(key: SecretKey, salt: [u8; SALT]) -> FileCipher {
        let mut proof_key = Zeroizing::new([0; 32]);
        pbkdf2::pbkdf2_hmac::<Sha512>(key.expose(), &salt.map(|byte| byte ^ 0x3a), 2, &mut *proof_key);
        FileCipher { key, salt, proof_key }
    }

    /// The key itself.
    pub fn key(&self) -> &SecretKey {
        &self.key
    }

    /// What tells the file from others.
    pub fn salt(&self) -> [u8; SALT] {
        self.salt
    }

    /// Whether this is a whole page, written with this key as the one with this number.
    pub fn is_page(&self, number: u32, page: &[u8]) -> bool {
        let Some((body, proof)) = page.split_at_checked(PAGE - PROOF).filter(|_| page.len() == PAGE) else {
            return false;
        };
        self.mac(number, &body[start(number)..]).verify_slice(proof).is_ok()
    }

    /// Makes the page with this number readable, in its place. Says whether it could: otherwise it is damaged, or of another key, and left as it is.
    pub fn open(&self, number: u32, page: &mut [u8]) -> bool {
        if number > 1 && page.len() == PAGE && page.iter().all(|byte| *byte == 0) {
            return true;
        }
        if !self.is_page(number, page) {
            return false;
        }
        self.open_unproven(number, page);
        true
    }

    /// As [`FileCipher::open`], of a page that may be damaged: at least 16 bytes of it are made up then, and it may be of another key.
    pub fn open_unproven(&self, number: u32, page: &mut [u8]) {
        if page.len() != PAGE {
            return;
        }
        let (content, rest) = page.split_at_mut(PAGE - RESERVED);
        let vector: &[u8] = &rest[..VECTOR];
        let cipher = cbc::Decryptor::<Aes256>::new(self.key.expose().into(), vector.into());
        // It is a whole number of blocks.
        let _ = cipher.decrypt_padded_mut::<NoPadding>(&mut content[start(number)..]);
        if number == 1 {
            page[..SALT].copy_from_slice(MAGIC);
        }
    }

    /// Encrypts the page with this number, in its place. A vector is used only once.
    pub fn close(&self, number: u32, page: &mut [u8; PAGE], vector: [u8; VECTOR]) {
        if number == 1 {
            page[..SALT].copy_from_slice(&self.salt);
        }
        let end = PAGE - RESERVED;
        let cipher = cbc::Encryptor::<Aes256>::new(self.key.expose().into(), &vector.into());
        // It is a whole number of blocks.
        let _ = cipher.encrypt_padded_mut::<NoPadding>(&mut page[start(number)..end], end - start(number));
        page[end..end + VECTOR].copy_from_slice(&vector);
        let proof = self.mac(number, &page[start(number)..PAGE - PROOF]).finalize().into_bytes();
        page[PAGE - PROOF..].copy_from_slice(&proof);
    }

    fn mac(&self, number: u32, bytes: &[u8]) -> Hmac<Sha512> {
        let mut mac = <Hmac<Sha512> as Mac>::new_from_slice(&*self.proof_key)
            .unwrap_or_else(|_| unreachable!("a key of any length is taken"));
        mac.update(bytes);
        mac.update(&number.to_le_bytes());
        mac
    }
}

/// Where the encrypted bytes of a page begin.
fn start(number: u32) -> usize {
    if number == 1 { SALT } else { 0 }
}

impl PartialEq for FileCipher {
    fn eq(&self, other: &FileCipher) -> bool {
        (&self.key, self.salt) == (&other.key, other.salt)
    }
}

impl fmt::Debug for FileCipher {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("FileCipher(…)")
    }
}
