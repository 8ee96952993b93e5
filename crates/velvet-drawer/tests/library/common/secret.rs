//! A word that nobody may see, and whether a folder shows it.

use std::path::Path;

/// A word that stands in every sealed value, and nowhere else.
pub const WORD: &str = "tenmoku-under-the-floor";

/// Whether the word, or a part of it that says enough, is in any file of a folder.
pub fn is_seen(folder: &Path) -> Vec<String> {
    let files = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let seen = |path: &Path| {
        let bytes = std::fs::read(path).unwrap_or_default();
        let utf16: Vec<u8> = WORD.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let hex: String = WORD.bytes().map(|b| format!("{b:02x}")).collect();
        let forms = [WORD.as_bytes(), &WORD.as_bytes()[..9], &utf16, hex.as_bytes()];
        forms.iter().any(|form| bytes.windows(form.len()).any(|w| w.eq_ignore_ascii_case(form)))
    };
    files.filter(|path| seen(path)).map(|path| path.display().to_string()).collect()
}
