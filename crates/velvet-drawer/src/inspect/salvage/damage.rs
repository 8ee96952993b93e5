//! Where a file is damaged: the pages that cannot be read, by the tables whose rows are in them.

use super::source::PageSource;
use super::tree::DamageOfPage;
use super::{entry, tree};
use std::convert::Infallible;
use std::path::Path;
use velvet_core::exchange::sql_text::table_options;

/// A page of a table of which something cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::inspect) struct DamagedPage {
    pub(in crate::inspect) number: u32,
    /// Nothing where the list of tables is in it.
    pub(in crate::inspect) table: Option<String>,
    pub(in crate::inspect) what: DamageOfPage,
}

/// What the pages of a file tell of it without the engine.
#[derive(Default)]
pub(in crate::inspect) struct Damage {
    pub(in crate::inspect) pages: Vec<DamagedPage>,
    /// The first page of each table and index, and its name.
    pub(in crate::inspect) roots: Vec<(u32, String)>,
}

/// The pages of the file at `path` that cannot be read, of tables with row numbers. Nothing where not even its beginning can.
pub(in crate::inspect) fn damage(path: &Path) -> Damage {
    let Ok(Some(mut source)) = PageSource::open(path) else { return Damage::default() };
    let mut damage = Damage::default();
    let mut seen = vec![false; source.pages as usize + 1];
    let mut entries = Vec::new();
    walked(&mut source, 1, None, &mut seen, &mut damage.pages, &mut |row| entries.extend(entry(&row)));
    for entry in entries.iter().filter(|e| e.root > 0) {
        damage.roots.push((entry.root, entry.name.clone()));
        if entry.kind == "table" && !table_options(&entry.statement).without_row_numbers {
            walked(&mut source, entry.root, Some(&entry.name), &mut seen, &mut damage.pages, &mut |_| {});
        }
    }
    damage
}

fn walked(
    source: &mut PageSource,
    root: u32,
    table: Option<&str>,
    seen: &mut [bool],
    pages: &mut Vec<DamagedPage>,
    each: &mut dyn FnMut(Vec<velvet_core::Value>),
) {
    let walked = tree::walk::<Infallible>(source, root, seen, &mut |(_, row)| {
        each(row);
        Ok(())
    });
    let Ok(missing) = walked;
    let of_table = |(number, what)| DamagedPage { number, table: table.map(str::to_owned), what };
    pages.extend(missing.pages.into_iter().map(of_table));
}
