//! Bytes as hexadecimal digits.

use std::fmt::Write;

/// The bytes that hexadecimal digits stand for; nothing where these are others.
pub(crate) fn from_hex(text: &str) -> Option<Vec<u8>> {
    let pairs = text.as_bytes().chunks(2);
    pairs.map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok().filter(|p| p.len() == 2)?, 16).ok()).collect()
}

/// All bytes as hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut out, byte| {
        let _ = write!(out, "{byte:02x}");
        out
    })
}
