//! `velvet records`: the rows of a table.

use super::{opened, say_left_out};
use crate::args::{self, Form, Order};
use crate::failure::Failure;
use crate::rows::{Ending, own, writer};
use crate::terminal::{self, QUIET};
use std::io::{self, Write};
use velvet_core::exchange::show::count;
use velvet_drawer::inspect::Page;

pub(crate) fn run(arguments: &args::Records) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form.reader())?;
    let table = file.table(&arguments.table)?;
    let page = Page {
        filter: arguments.filter.clone(),
        sort: arguments.sort.clone(),
        by_own_key: arguments.order == Order::OwnKey,
        limit: Some(arguments.limit.of(arguments.form.reader())),
        offset: arguments.offset,
        columns: arguments.columns.clone(),
    };
    let columns = file.columns(&table, &page)?;
    let all = match file.count(&table, &page) {
        // The first rows of a view may be there at once, and the last never.
        Err(error) if error.is_beyond_bounds() => None,
        counted => Some(counted?),
    };
    let mut out = writer(arguments.form, &columns)?;
    let mut shown: u64 = 0;
    file.rows(&table, &page, &mut |row| {
        shown += 1;
        out.row(row).map_err(own)
    })?;
    out.end(&Ending { all, notes: file.notes() })?;
    if arguments.form == Form::Table {
        match all {
            Some(all) => say_how_many(shown, all, page.offset)?,
            None => {
                let line = format!("the first {}; counting all of them takes too long", of(shown));
                writeln!(terminal::out(), "\n{QUIET}{line}{QUIET:#}")?;
            }
        }
    }
    Ok(say_left_out(&file, arguments.form.reader())?)
}

fn of(rows: u64) -> String {
    count(usize::try_from(rows).unwrap_or(usize::MAX), "row")
}

fn say_how_many(shown: u64, all: u64, offset: u64) -> io::Result<()> {
    let line = match shown {
        0 if all > 0 => format!("no row after the first {offset}; there are {} in all", of(all)),
        _ if shown == all => of(all),
        _ => format!("rows {} to {} of {all}; more with --limit and --offset", offset + 1, offset + shown),
    };
    writeln!(terminal::out(), "\n{QUIET}{line}{QUIET:#}")
}
