//! `velvet records`: the rows of a table.

use super::opened;
use crate::args::{self, Form, Order};
use crate::failure::Failure;
use crate::rows::{own, writer};
use crate::terminal::{self, QUIET};
use std::io::{self, Write};
use velvet_core::show::count;
use velvet_drawer::inspect::Page;

/// How many rows a table shows unless told otherwise.
const ROWS_SHOWN: u64 = 50;

pub(crate) fn run(arguments: &args::Records) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form == Form::Table)?;
    let table = file.table(&arguments.table)?;
    let page = Page {
        filter: arguments.filter.clone(),
        sort: arguments.sort.clone(),
        by_own_key: arguments.order == Order::OwnKey,
        limit: arguments.limit.or((arguments.form == Form::Table).then_some(ROWS_SHOWN)),
        offset: arguments.offset,
        columns: arguments.columns.clone(),
    };
    let columns = file.columns(&table, &page)?;
    let all = file.count(&table, &page)?;
    let mut out = writer(arguments.form, &columns)?;
    let mut shown: u64 = 0;
    file.rows(&table, &page, &mut |row| {
        shown += 1;
        out.row(row).map_err(own)
    })?;
    out.end()?;
    if arguments.form == Form::Table {
        say_how_many(shown, all, page.offset)?;
    }
    Ok(())
}

fn say_how_many(shown: u64, all: u64, offset: u64) -> io::Result<()> {
    let of = |n: u64| count(usize::try_from(n).unwrap_or(usize::MAX), "row");
    let line = match shown {
        0 if all > 0 => format!("no row after the first {offset}; there are {}", of(all)),
        _ if shown == all => of(all),
        _ => format!("rows {} to {} of {all}; more with --limit and --offset", offset + 1, offset + shown),
    };
    writeln!(terminal::out(), "\n{QUIET}{line}{QUIET:#}")
}
