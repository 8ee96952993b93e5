//! Bytes as hexadecimal digits.

use std::io::{self, Write};

/// The bytes that hexadecimal digits stand for; nothing where these are others.
pub(crate) fn from_hex(text: &str) -> Option<Vec<u8>> {
    let pairs = text.as_bytes().chunks(2);
    pairs.map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok().filter(|p| p.len() == 2)?, 16).ok()).collect()
}

/// All bytes as hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    let mut out = Vec::with_capacity(bytes.len() * 2);
    // Memory takes everything.
    let _ = write_hex(bytes, &mut out);
    String::from_utf8(out).unwrap_or_default()
}

/// Writes all bytes as hexadecimal digits, without holding them.
pub fn write_hex(bytes: &[u8], out: &mut dyn Write) -> io::Result<()> {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let mut digits = [0; 1024];
    for part in bytes.chunks(digits.len() / 2) {
        for (pair, byte) in digits.chunks_exact_mut(2).zip(part) {
            pair.copy_from_slice(&[DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]]);
        }
        out.write_all(&digits[..part.len() * 2])?;
    }
    Ok(())
}
