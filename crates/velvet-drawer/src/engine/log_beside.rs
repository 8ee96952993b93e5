//! Whether the write-ahead log that stands beside a file is the one of that file, of the same moment.

use super::Opener;
use std::collections::BTreeSet;
use std::fs;
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::Path;
use velvet_core::header::Header;
use velvet_core::wal;

/// What a write-ahead log is to the file beside which it stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LogBeside {
    /// It goes on from the file, as far as that can be told.
    Fits,
    /// It is no log of a file like this, or its beginning is damaged: the engine reads nothing of it.
    NoLog,
    /// It is of an earlier moment than the file.
    Older,
    /// It is of a later moment than the file, which lacks what was merged in between.
    Newer,
    /// It is of a later moment, or the file is cut: there are pages that are in neither of them.
    PagesMissing,
}

/// Tells what the log at `log` is to a file that begins with `header`.
pub(crate) fn log_beside(log: &Path, header: &Header) -> io::Result<LogBeside> {
    let mut file = BufReader::new(fs::File::open(log)?);
    let Some(frames) = wal::frames(&mut file, header.page_size)? else { return Ok(LogBeside::NoLog) };
    // How often the file's header had been written at the first and the last time that the log has it.
    let (mut counts, mut pages) = (None, header.pages_there);
    for frame in &frames {
        if frame.page == 1 {
            let mut start = [0; Header::BYTES];
            file.seek(SeekFrom::Start(frame.at))?;
            file.read_exact(&mut start)?;
            let count = Header::count(&start);
            counts = Some((counts.map_or(count, |(first, _)| first), count));
        }
        pages = frame.commit.unwrap_or(pages);
    }
    let there: BTreeSet<u32> = frames.iter().map(|f| f.page).collect();
    let is_missing = (header.pages_there.saturating_add(1)..=pages).any(|p| !there.contains(&p));
    Ok(match counts {
        Some((_, last)) if header.count > last => LogBeside::Older,
        Some((first, _)) if header.count.wrapping_add(1) < first => LogBeside::Newer,
        _ if is_missing => LogBeside::PagesMissing,
        _ => LogBeside::Fits,
    })
}

/// Whether the log beside a file is of another moment than the file. The engine would lay it over the file all the same.
pub(super) fn is_of_another_moment(path: &Path, log: &Path) -> bool {
    let header = || Opener::new(path).header().ok().flatten();
    let Some(before) = header() else { return false };
    let is_another = matches!(log_beside(log, &before), Ok(LogBeside::Older | LogBeside::Newer));
    // A process that has the file open may have merged its log and begun anew meanwhile; that counts.
    is_another && header() == Some(before)
}
