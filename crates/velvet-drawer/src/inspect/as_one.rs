//! Whether a file and its log or journal belong together, judged without opening the file.

use crate::device::companions::COMPANIONS;
use crate::engine::{Encrypted, LogBeside, Opener, log_beside};
use std::fs;
use std::path::{Path, PathBuf};
use velvet_core::file::header::Header;

pub(super) const RIGHT_WAY: &str = "To pull a complete copy, end the app and copy both files, or run `velvet copy`, or let the app hand one \
    out with Drawer::copy_to";

/// Why a file and its log or journal do not belong together, judged without opening the file; `None` if no reason is found.
pub(super) fn not_as_one(path: &Path) -> Option<String> {
    let header = header(path)?;
    let [log, _, journal] = COMPANIONS.map(|end| Companion::of(path, end));
    if log.bytes > 0 {
        return of_log(path, &header, &log);
    }
    if journal.bytes > 0 { None } else { cut(&header) }
}

/// A file beside another.
pub(super) struct Companion {
    pub(super) name: String,
    pub(super) path: PathBuf,
    pub(super) bytes: u64,
    pub(super) is_there: bool,
}

impl Companion {
    pub(super) fn of(file: &Path, end: &str) -> Companion {
        let mut path = file.as_os_str().to_owned();
        path.push(end);
        let path = PathBuf::from(path);
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let found = fs::metadata(&path).ok();
        Companion { name, bytes: found.as_ref().map_or(0, fs::Metadata::len), is_there: found.is_some(), path }
    }
}

/// Nothing where this process has the file open: what stands beside it then changes at any moment.
pub(super) fn header(path: &Path) -> Option<Header> {
    Opener::new(path).header().ok().flatten()
}

fn cut(header: &Header) -> Option<String> {
    let (has, needs) = (header.pages_there, header.pages?);
    (has < needs).then(|| {
        format!(
            "this file is cut: it has {has} of its {needs} pages. It was copied while it was being written, or the copy was \
             interrupted. {RIGHT_WAY}"
        )
    })
}

/// Whether the write-ahead log is that of the file, of the same moment.
fn of_log(path: &Path, header: &Header, beside: &Companion) -> Option<String> {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let another = |which: &str| {
        format!(
            "{} belongs to a different version of {name}: {which}. The state shown never existed. {RIGHT_WAY}",
            beside.name
        )
    };
    match log_beside(&beside.path, header, Encrypted::at(path).as_ref()).ok()? {
        LogBeside::Fits => None,
        LogBeside::NoLog => Some(format!(
            "{} is no log of this file, or its beginning is damaged: nothing of it is shown here. {RIGHT_WAY}",
            beside.name
        )),
        LogBeside::OfAnother => Some(another("of encrypted files it is not known which is older")),
        LogBeside::Older => Some(another("the log is older than the file")),
        LogBeside::Newer | LogBeside::PagesMissing => {
            Some(another("the file is older than the log, and what was merged in between is missing"))
        }
    }
}
