//! What is kept of a drawer beside its file: copies from before upgrades and adoption, and files that were set aside.

use crate::device::companions::{self, COMPANIONS, LOG, with_companions};
use crate::device::unfinished::WORD;
use crate::engine::{Connection, Fault, is_open_here};
use crate::schema::about::About;
use jiff::Timestamp;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

/// A file that is kept beside a drawer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeptCopy {
    /// Where it is.
    pub path: PathBuf,
    /// What it was kept for.
    pub reason: KeptFor,
    /// Its size in bytes, with the files that belong to it.
    pub bytes: u64,
    /// When it was last written.
    pub written_at: Timestamp,
}

/// What a file is kept for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeptFor {
    /// The file as it was at this version, before an upgrade that loses something.
    Upgrade(u32),
    /// The file as it was before the library took it over.
    Adoption,
    /// A file that could not be opened, or in whose place a copy was restored.
    SetAside,
}

/// Which copies from before upgrades and adoption stay. Files that were set aside always do: nothing else has what is in them.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Bounds {
    pub(crate) copies: usize,
    pub(crate) age: Duration,
}

impl Default for Bounds {
    fn default() -> Bounds {
        Bounds { copies: 3, age: Duration::from_secs(180 * 24 * 60 * 60) }
    }
}

/// All that is kept beside the drawer at a resolved path, the newest first.
pub(crate) fn kept(path: &Path) -> Vec<KeptCopy> {
    let mut all: Vec<KeptCopy> = words_beside(path)
        .into_iter()
        .filter_map(|(place, word)| {
            let reason = reason(&word)?;
            let written = fs::metadata(&place).and_then(|m| m.modified()).unwrap_or(SystemTime::UNIX_EPOCH);
            let bytes = with_companions(&place).filter_map(|p| fs::metadata(p).ok()).map(|m| m.len()).sum();
            Some(KeptCopy { path: place, reason, bytes, written_at: Timestamp::try_from(written).unwrap_or_default() })
        })
        .collect();
    all.sort_by(|a, b| (b.written_at, &b.path).cmp(&(a.written_at, &a.path)));
    all
}

/// A write-ahead log that was set aside alone.
pub(crate) struct LogWithoutFile {
    pub(crate) log: PathBuf,
    /// The name of the file that it would be the companion of, and that does not exist.
    pub(crate) place: PathBuf,
}

/// The write-ahead logs next to a drawer that were set aside and that nobody has answered for. Those that the app knows of have another name.
pub(crate) fn logs_without_file(path: &Path) -> Vec<LogWithoutFile> {
    let of = |(log, word): (PathBuf, String)| {
        let name = log.file_name()?.to_str()?.strip_suffix(COMPANIONS[0])?.to_owned();
        (reason(&word)? == KeptFor::SetAside).then(|| LogWithoutFile { place: log.with_file_name(name), log })
    };
    words_beside(path).into_iter().filter_map(of).collect()
}

/// Copies that were never finished, because what made them was killed.
pub(super) fn unfinished(path: &Path) -> Vec<PathBuf> {
    let all = words_beside(path).into_iter();
    all.filter(|(_, word)| word.starts_with(WORD)).map(|(place, _)| place).collect()
}

/// How much time counts at most from one start of the app to the next. A clock that jumps ahead makes nothing old.
const MOST_AT_ONCE: i64 = 7 * 24 * 60 * 60;

/// The fact that says when time was counted last, and how many seconds were by then.
const COUNTED: &str = "counted_time";

/// What the name of a fact begins with that says when, in counted seconds, a copy was first seen; its file name follows.
const SINCE: &str = "copy ";

/// Removes the copies that are beyond the bounds, but never for its age the newest of those that were kept for the same reason. One that cannot be removed is tried again the
/// next time.
///
/// Age is counted in the file, start by start, because a clock may be wrong for once.
pub(crate) fn keep_within(connection: &Connection, path: &Path, bounds: Bounds, now: Timestamp) -> Result<(), Fault> {
    let copies: Vec<KeptCopy> = kept(path).into_iter().filter(|copy| copy.reason != KeptFor::SetAside).collect();
    if copies.is_empty() {
        return Ok(());
    }
    let transaction = connection.transaction()?;
    let counted = count_time(connection, now)?;
    let mut aged = Vec::new();
    for copy in copies {
        let fact = format!("{SINCE}{}", copy.path.file_name().unwrap_or_default().to_string_lossy());
        let since = About::fact(connection, &fact)?.and_then(|since| since.parse().ok());
        if since.is_none() {
            About::remember(connection, &fact, &counted.to_string())?;
        }
        aged.push((since.unwrap_or(counted), copy, fact));
    }
    aged.sort_by(|(a, one, _), (b, other, _)| (b, other.written_at).cmp(&(a, one.written_at)));
    let mut reasons = Vec::new();
    for (at, (since, copy, fact)) in aged.into_iter().enumerate() {
        let is_newest = !reasons.contains(&copy.reason);
        reasons.push(copy.reason);
        let is_old = u64::try_from(counted - since).is_ok_and(|age| age > bounds.age.as_secs());
        if (at >= bounds.copies || is_old && !is_newest) && !is_open_here(&copy.path) {
            companions::clear_away(&copy.path);
            About::forget(connection, &fact)?;
        }
    }
    transaction.commit()
}

/// How many seconds have been counted by now.
fn count_time(connection: &Connection, now: Timestamp) -> Result<i64, Fault> {
    let known = About::fact(connection, COUNTED)?;
    let parts = known.as_deref().and_then(|known| known.split_once(' '));
    let parts = parts.and_then(|(at, counted)| Some((at.parse::<i64>().ok()?, counted.parse::<i64>().ok()?)));
    let (at, counted) = parts.unwrap_or((now.as_second(), 0));
    let counted = counted.saturating_add((now.as_second().saturating_sub(at)).clamp(0, MOST_AT_ONCE));
    About::remember(connection, COUNTED, &format!("{} {counted}", now.as_second()))?;
    Ok(counted)
}

/// The files beside a drawer that are named after it, and the word in each name.
fn words_beside(path: &Path) -> Vec<(PathBuf, String)> {
    let stem = format!("{}.", path.file_stem().unwrap_or_default().to_string_lossy());
    let end = path.extension().map(|e| format!(".{}", e.to_string_lossy())).unwrap_or_default();
    let Some(Ok(entries)) = path.parent().map(fs::read_dir) else { return Vec::new() };
    let word = |entry: fs::DirEntry| {
        let name = entry.file_name().to_string_lossy().into_owned();
        // A write-ahead log that was set aside stands there without a file.
        let of = name.strip_suffix(COMPANIONS[0]).filter(|of| !entry.path().with_file_name(of).exists());
        let word = of.unwrap_or(&name).strip_prefix(&stem)?.strip_suffix(&end)?.to_owned();
        Some((entry.path(), word))
    };
    entries.flatten().filter_map(word).collect()
}

fn reason(word: &str) -> Option<KeptFor> {
    let is_number = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    // A number behind the word tells several of the same apart.
    let is_end = |rest: &str| rest.is_empty() || rest.strip_prefix('-').is_some_and(is_number);
    if let Some(rest) = word.strip_prefix("at-version-") {
        let digits = rest.find('-').unwrap_or(rest.len());
        return rest[..digits].parse().ok().filter(|_| is_end(&rest[digits..])).map(KeptFor::Upgrade);
    }
    if let Some(rest) = word.strip_prefix("before-adoption") {
        return is_end(rest).then_some(KeptFor::Adoption);
    }
    let rest = word.strip_prefix("set-aside-")?;
    let (date, rest) = rest.split_at_checked(10)?;
    let (time, rest) = rest.split_at_checked(10)?;
    let is_moment = date.parse::<jiff::civil::Date>().is_ok() && time.starts_with('T') && time.ends_with('Z');
    let is_log = |rest: &str| {
        rest.split_once('.').is_some_and(|(before, log)| is_end(before) && log.strip_prefix(LOG).is_some_and(is_end))
    };
    (is_moment && (is_end(rest) || is_log(rest))).then_some(KeptFor::SetAside)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_says_what_a_file_is_kept_for_and_other_words_say_nothing() {
        let place = companions::set_aside(Path::new("/no/kiln.drawer"));
        let now = place.to_string_lossy().replace("/no/kiln.", "").replace(".drawer", "");
        for (word, kept_for) in [
            ("at-version-12", Some(KeptFor::Upgrade(12))),
            ("at-version-12-2", Some(KeptFor::Upgrade(12))),
            ("before-adoption-3", Some(KeptFor::Adoption)),
            (now.as_str(), Some(KeptFor::SetAside)),
            ("set-aside-2025-03-08T10-00-00Z-2", Some(KeptFor::SetAside)),
            ("at-version-", None),
            ("at-version-1x", None),
            ("at-version-1.at-version-1", None),
            ("before-adoptions", None),
            ("set-aside-by-hand", None),
            ("set-aside-2025-03-08", None),
            ("velvet-unfinished-copy", None),
        ] {
            assert_eq!(reason(word), kept_for, "{word}");
        }
    }
}
