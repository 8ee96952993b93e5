//! The path of a file as an address with a parameter, as the engine takes it: pure, for the forms of every system.

use super::{Fault, FaultKind};
use rusqlite::OpenFlags;
use std::path::Path;

/// How a statement names the file at an absolute path: statements are Unicode, which a path need not be.
pub(super) fn in_a_statement(path: &Path) -> Result<String, Fault> {
    match path.to_str() {
        Some(text) => Ok(text.to_owned()),
        None if cfg!(unix) => Ok(address(path.as_os_str().as_encoded_bytes(), false, "mode=rwc")),
        None => {
            let message = format!("the path {} is no text in Unicode", path.display());
            Err(Fault { kind: FaultKind::CannotOpen, message })
        }
    }
}

/// The path as an address with a parameter, every character that could be read as part of the address written out. The bytes are those of an
/// absolute path; `windows` says whether it is written as Windows does.
pub(super) fn address(path: &[u8], windows: bool, way: &str) -> String {
    let path = if windows { of_windows(&String::from_utf8_lossy(path)).into_bytes() } else { path.to_vec() };
    let mut out = String::from("file:");
    for byte in path {
        if byte.is_ascii_alphanumeric() || matches!(byte, b'/' | b'.' | b'-' | b'_' | b':') {
            out.push(char::from(byte));
        } else {
            out.push_str(&format!("%{byte:02X}"));
        }
    }
    format!("{out}?{way}")
}

/// `C:\x` as `///C:/x`, `\\server\share\x` as `////server/share/x`; both without what says that a path is taken word for word.
fn of_windows(path: &str) -> String {
    let path = match (path.strip_prefix(r"\\?\UNC\"), path.strip_prefix(r"\\?\")) {
        (Some(rest), _) => format!(r"\\{rest}"),
        (_, Some(rest)) => rest.to_owned(),
        _ => path.to_owned(),
    };
    let path = path.replace('\\', "/");
    if path.starts_with("//") { format!("//{path}") } else { format!("///{path}") }
}

/// How the addresses of places in memory begin.
pub(super) const IN_MEMORY: &str = "file:/velvet-";

/// Only places in memory are written as addresses; a file's path is never read as one.
pub(super) fn flags(place: &Path) -> OpenFlags {
    match place.to_str() {
        Some(text) if text.starts_with(IN_MEMORY) => OpenFlags::SQLITE_OPEN_URI,
        _ => OpenFlags::empty(),
    }
}

#[cfg(test)]
mod tests {
    use super::address;

    #[test]
    fn a_path_is_an_address_in_the_forms_of_every_system() {
        for (path, windows, expected) in [
            ("/data/kiln.drawer", false, "file:/data/kiln.drawer?mode=ro"),
            ("/data/50% ?#.drawer", false, "file:/data/50%25%20%3F%23.drawer?mode=ro"),
            (r"/data/a\b", false, "file:/data/a%5Cb?mode=ro"),
            (r"C:\Users\Ada\kiln.drawer", true, "file:///C:/Users/Ada/kiln.drawer?mode=ro"),
            (r"\\?\C:\Users\Ada\kiln 1.drawer", true, "file:///C:/Users/Ada/kiln%201.drawer?mode=ro"),
            (r"\\server\share\kiln", true, "file:////server/share/kiln?mode=ro"),
            (r"\\?\UNC\server\share\kiln", true, "file:////server/share/kiln?mode=ro"),
        ] {
            assert_eq!(address(path.as_bytes(), windows, "mode=ro"), expected);
        }
    }
}
