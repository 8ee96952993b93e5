//! What is said of records that had another own key, or are gone.

use super::sessions::second;
use crate::failure::Failure;
use velvet_core::exchange::show::{self, escaped};
use velvet_drawer::inspect::{File, Former, FoundTable, TrailEntry};

/// The records that had this own key in any of the tables, or in all of the file.
pub(super) fn in_tables(file: &File, tables: &[FoundTable], own_key: &str) -> Result<Vec<Former>, Failure> {
    let mut all = Vec::new();
    if tables.is_empty() {
        for name in file.table_names()?.iter().filter(|name| file.own_key(name).is_some()) {
            all.extend(file.formerly(&file.table(name)?, own_key)?);
        }
    }
    for table in tables {
        all.extend(file.formerly(table, own_key)?);
    }
    Ok(all)
}

/// What became of it, as a sentence.
pub(super) fn in_words(own_key: &str, former: &Former) -> String {
    let record = format!("{} {} (row {})", escaped(&former.table), escaped(own_key), former.row);
    let by = |entry: &TrailEntry| match entry.session {
        Some(session) => format!("session {session} at {} UTC", second(&entry.at)),
        None => format!("another program, or an app without sessions, at {} UTC", second(&entry.at)),
    };
    match (&former.now, &former.removed_by) {
        (Some(now), _) => {
            format!("{record} is now {}, changed by {}", show::shown(now.as_ref(), None).text, by(&former.lost_by))
        }
        (None, Some(removed)) if *removed == former.lost_by => format!("{record} was removed by {}", by(removed)),
        (None, Some(removed)) => {
            format!("{record} got another key by {}, and was removed by {}", by(&former.lost_by), by(removed))
        }
        (None, None) => format!("{record} got another key by {}, and is gone", by(&former.lost_by)),
    }
}
