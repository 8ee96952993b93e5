//! Sealing single values: what is in a sealed column can be read only with the key, and only where it was written.
//!
//! A sealed value is bytes: its form, the number of the key (four bytes, the largest first), a nonce (24 bytes), and what
//! XChaCha20-Poly1305 makes of the value. Its key is derived with HKDF-SHA-256 from the file's key, with the file's id as salt and
//! `velvet sealed 1`, a zero byte and the label of the column as information; the additional data are the first five bytes of the sealed value and
//! the row number (eight bytes, the largest first). So a value does not open in another file, column or row. In form [`BOUND`] the name of a named value
//! follows the row number, in [`Plain`] form, so a value does not open under another name either.
//!
//! What is sealed is a value in [`Plain`] form, followed by `0x80` and zero bytes up to a multiple of 32, so that only its rough length shows.

#[cfg(feature = "encryption")]
pub mod file_cipher;
pub mod keys;

use crate::value::{Value, ValueRef};
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use hkdf::Hkdf;
use sha2::Sha256;
use std::fmt;
use zeroize::{Zeroize, ZeroizeOnDrop, Zeroizing};

/// The form of a sealed value that has no name, or was written before names were bound.
const UNBOUND: u8 = 1;

/// The form of a sealed value that is bound to its name.
pub const BOUND: u8 = 2;

/// Where the nonce of a sealed value begins.
pub const NONCE_AT: usize = 1 + 4;

/// How many bytes stand before what the cipher makes: the form, the number of the key, the nonce.
const HEAD: usize = NONCE_AT + NONCE;

/// How many bytes a nonce has.
pub const NONCE: usize = 24;

/// How many bytes the cipher adds, by which it knows its own.
const TAG: usize = 16;

/// The lengths of what is sealed are multiples of this.
const BLOCK: usize = 32;

/// How many bytes the id of a file has.
pub const FILE_ID: usize = 16;

/// A key, 32 bytes. It is wiped from memory when it is dropped, and `Debug` does not show it.
#[derive(Clone, Zeroize, ZeroizeOnDrop, PartialEq, Eq)]
pub struct SecretKey([u8; 32]);

impl SecretKey {
    /// The key with these bytes.
    pub fn from_bytes(mut bytes: [u8; 32]) -> SecretKey {
        let key = SecretKey(bytes);
        bytes.zeroize();
        key
    }

    /// Its bytes, for whoever keeps it.
    pub fn expose(&self) -> &[u8; 32] {
        &self.0
    }
}

impl fmt::Debug for SecretKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SecretKey(…)")
    }
}

/// Seals and opens the values of one column of one file.
#[derive(Clone)]
pub struct ColumnSeal {
    cipher: XChaCha20Poly1305,
    number: u32,
}

impl ColumnSeal {
    /// That of the column with this label, in the file with this id, by the key with this number.
    pub fn new(key: &SecretKey, number: u32, file_id: &[u8; FILE_ID], label: &str) -> ColumnSeal {
        let mut derived = Zeroizing::new([0; 32]);
        let info = [b"velvet sealed 1\0", label.as_bytes()];
        // 32 bytes are far from the most that can be derived, which is what could fail.
        let _ = Hkdf::<Sha256>::new(Some(file_id), &key.0).expand_multi_info(&info, &mut *derived);
        ColumnSeal { cipher: XChaCha20Poly1305::new(Key::from_slice(&*derived)), number }
    }

    /// Seals a value in [`Plain`] form at a place. A nonce is used only once.
    pub fn seal(&self, plain: &[u8], place: SealedPlace<'_>, nonce: [u8; NONCE]) -> Vec<u8> {
        let mut padded = Zeroizing::new(Vec::with_capacity(plain.len() + BLOCK));
        padded.extend_from_slice(plain);
        padded.push(0x80);
        let length = padded.len().next_multiple_of(BLOCK);
        padded.resize(length, 0);
        let mut sealed = Vec::with_capacity(HEAD + padded.len() + TAG);
        sealed.push(if place.name.is_some() { BOUND } else { UNBOUND });
        sealed.extend(self.number.to_be_bytes());
        let bound = place.bound_to(&sealed);
        sealed.extend(nonce);
        let payload = Payload { msg: &padded, aad: &bound };
        // It fails only where a value is longer than the engine takes.
        sealed.extend(self.cipher.encrypt(&XNonce::from(nonce), payload).unwrap_or_default());
        sealed
    }

    /// The value in [`Plain`] form that was sealed at a place; `None` if it was sealed at another place, or changed since. A value that was sealed without a name opens
    /// under any.
    pub fn open(&self, sealed: &[u8], place: SealedPlace<'_>) -> Option<Zeroizing<Vec<u8>>> {
        let (head, made) = sealed.split_at_checked(HEAD).filter(|_| key_number(sealed) == Some(self.number))?;
        let (head, nonce) = head.split_at(HEAD - NONCE);
        let nonce: [u8; NONCE] = nonce.try_into().ok()?;
        let place = SealedPlace { name: place.name.filter(|_| is_bound(sealed)), ..place };
        let payload = Payload { msg: made, aad: &place.bound_to(head) };
        let mut plain = Zeroizing::new(self.cipher.decrypt(&XNonce::from(nonce), payload).ok()?);
        let end = plain.iter().rposition(|byte| *byte != 0).filter(|end| plain[*end] == 0x80)?;
        plain.truncate(end);
        Some(plain)
    }
}

/// The place of a sealed value in its column.
#[derive(Clone, Copy, Debug)]
pub struct SealedPlace<'n> {
    /// The number of its row.
    pub row: i64,
    /// Its name in [`Plain`] form, if it is a named value.
    pub name: Option<&'n [u8]>,
}

impl SealedPlace<'_> {
    /// The data that are authenticated with a value that has this head.
    fn bound_to(self, head: &[u8]) -> Vec<u8> {
        [head, &self.row.to_be_bytes(), self.name.unwrap_or_default()].concat()
    }
}

/// Whether a sealed value is bound to its name.
pub fn is_bound(sealed: &[u8]) -> bool {
    sealed.first() == Some(&BOUND)
}

/// The number of the key by which a value was sealed; nothing where it is no sealed value.
pub fn key_number(sealed: &[u8]) -> Option<u32> {
    let is_one = matches!(sealed.first(), Some(&(UNBOUND | BOUND))) && sealed.len() >= HEAD + BLOCK + TAG;
    let number = sealed.get(1..5).filter(|_| is_one && (sealed.len() - HEAD - TAG).is_multiple_of(BLOCK))?;
    number.try_into().ok().map(u32::from_be_bytes)
}

/// A value as bytes that say what it is: a letter for its kind, then the value.
pub struct Plain;

impl Plain {
    /// That of a value; nothing of a missing one, which is not sealed.
    pub fn of(value: ValueRef<'_>) -> Option<Vec<u8>> {
        let (kind, bytes) = match value {
            ValueRef::Missing => return None,
            ValueRef::Integer(number) => (b'i', number.to_be_bytes().to_vec()),
            ValueRef::Real(number) => (b'r', number.to_bits().to_be_bytes().to_vec()),
            ValueRef::Text(text) => (b't', text.as_bytes().to_vec()),
            ValueRef::BrokenText(bytes) | ValueRef::Bytes(bytes) => (b'b', bytes.to_vec()),
        };
        let mut plain = vec![kind];
        plain.extend(Zeroizing::new(bytes).iter());
        Some(plain)
    }

    /// The value of which it is the form; nothing where it is none.
    pub fn read(plain: &[u8]) -> Option<ValueRef<'_>> {
        let (kind, bytes) = plain.split_first()?;
        match kind {
            b'i' => Some(ValueRef::Integer(i64::from_be_bytes(bytes.try_into().ok()?))),
            b'r' => Some(ValueRef::Real(f64::from_bits(u64::from_be_bytes(bytes.try_into().ok()?)))),
            b't' => std::str::from_utf8(bytes).ok().map(ValueRef::Text),
            b'b' => Some(ValueRef::Bytes(bytes)),
            _ => None,
        }
    }
}

/// Why a sealed value cannot be opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shut {
    /// Its key is not there.
    NoKey,
    /// It was sealed for another place, by another key of the same number, or changed since.
    Damaged,
}

impl Shut {
    /// What stands in the place of a value that cannot be opened, where that is asked for.
    pub fn sign(self) -> Value {
        Value::Bytes(vec![match self {
            Shut::NoKey => b'?',
            Shut::Damaged => b'!',
        }])
    }

    /// What a sign stands for.
    pub fn of_sign(bytes: &[u8]) -> Option<Shut> {
        match bytes {
            b"?" => Some(Shut::NoKey),
            b"!" => Some(Shut::Damaged),
            _ => None,
        }
    }
}

/// The name of the engine's function that seals a value in [`Plain`] form: of that, the label of the column, the row number, and the name where it has one.
pub const SEAL: &str = "velvet_seal";

/// The name of the engine's function that opens a sealed value, of the same; a missing one stays missing.
pub const UNSEAL: &str = "velvet_unseal";

/// The name of the engine's function that seals a value for another name: of the sealed value, the label, the row number, the name it has and the name it gets, either of
/// which may be missing. A value that does not open stays as it is.
pub const RESEAL: &str = "velvet_reseal";

/// The name of the engine's function that makes the [`Plain`] form of a value.
pub const TO_PLAIN: &str = "velvet_plain";

/// The name of the engine's function that makes the value of its [`Plain`] form, and fails where that says why it cannot be opened.
pub const OF_PLAIN: &str = "velvet_value";

/// The place of a sealed value in its column, as expressions.
#[derive(Clone, Debug)]
pub struct PlaceText {
    /// The number of its row.
    pub row: String,
    /// Its name, if it is a named value.
    pub name: Option<String>,
}

/// An expression that seals the value of another one at a place.
pub fn sealing(plain: &str, label: &str, at: &PlaceText) -> String {
    called(SEAL, plain, label, at)
}

/// An expression that opens the value of another one at a place.
pub fn unsealing(sealed: &str, label: &str, at: &PlaceText) -> String {
    called(UNSEAL, sealed, label, at)
}

fn called(function: &str, value: &str, label: &str, at: &PlaceText) -> String {
    let name = at.name.as_ref().map(|name| format!(", {name}")).unwrap_or_default();
    format!("{function}({value}, '{}', {}{name})", label.replace('\'', "''"), at.row)
}
