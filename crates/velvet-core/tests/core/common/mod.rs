//! Structures made up at random, for tests of how one becomes another.
#![allow(unreachable_pub)]

use proptest::prelude::*;
use velvet_core::schema::hints::{Hint, Hints, Origin};
use velvet_core::schema::structure::{ColumnDefinition, Index, Kind, OnDelete, Structure, Table};

fn kinds() -> impl Strategy<Value = Kind> {
    let choice = prop::collection::vec("[a-c]", 1..3).prop_map(|values| Kind::Choice { values, fallback: false });
    let link = (0..3_usize).prop_map(|n| Kind::Link { table: format!("t{n}") });
    let sealed = Just(Kind::Sealed { holds: Box::new(Kind::Text), label: "t.s".into() });
    prop_oneof![
        Just(Kind::I32),
        sealed,
        Just(Kind::U8),
        Just(Kind::F64),
        Just(Kind::Text),
        Just(Kind::Json),
        choice,
        link
    ]
}

prop_compose! {
    fn columns()(
        name in "[a-e]", kind in kinds(), optional: bool, default: bool, private: bool, unlinked: bool
    ) -> ColumnDefinition {
        let remove_unlinked = unlinked && matches!(kind, Kind::Link { .. });
        let on_delete = matches!(kind, Kind::Link { .. }).then_some(OnDelete::Remove);
        let default = (default && kind == Kind::I32).then(|| "7".to_owned());
        ColumnDefinition { name, kind, optional, default, on_delete, private, remove_unlinked, ignore_case: false }
    }
}

prop_compose! {
    fn tables()(
        mut columns in prop::collection::vec(columns(), 1..5), indexed in any::<[bool; 3]>(), searched in any::<[bool; 5]>(), shared: bool,
        ignore_case: bool
    ) -> Table {
        columns.sort_by(|a, b| a.name.cmp(&b.name));
        columns.dedup_by(|a, b| a.name == b.name);
        if let Some(unique) = columns.get_mut(1).filter(|c| indexed[1] && c.kind == Kind::Text) {
            unique.ignore_case = ignore_case;
        }
        let index = |at: usize, unique| columns.get(at).map(|c| Index { columns: vec![c.name.clone()], unique });
        let indexes = indexed.iter().enumerate().filter_map(|(at, yes)| if *yes { index(at, at == 1) } else { None }).collect();
        let own_key = indexed[2].then(|| columns[0].name.clone());
        let texts = columns.iter().zip(searched).filter(|(c, searched)| *searched && c.kind == Kind::Text);
        let searchable: Vec<String> = texts.map(|(c, _)| c.name.clone()).collect();
        let table = Table::new("", columns, own_key, indexes).searchable(searchable);
        let is_sealed = table.columns.iter().any(|c| c.seal().is_some());
        if shared && !is_sealed && table.own_key.as_ref().is_some_and(|key| !table.column(key).unwrap().optional) { table.shared() } else { table }
    }
}

/// Turns links of the first two tables to the third, which may not be there, or have no rows, to the first.
pub fn no_link_to_t2(structure: &mut Structure) {
    for column in structure.tables.iter_mut().take(2).flat_map(|t| &mut t.columns) {
        if column.kind == (Kind::Link { table: "t2".into() }) {
            column.kind = Kind::Link { table: "t0".into() };
        }
    }
}

pub fn structures() -> impl Strategy<Value = Structure> {
    prop::collection::vec(tables(), 2..=3).prop_map(|tables| {
        let named = tables.into_iter().enumerate().map(|(n, table)| Table { name: format!("t{n}"), ..table });
        let mut structure = Structure { tables: named.collect() };
        if structure.tables.len() == 2 {
            no_link_to_t2(&mut structure);
        }
        structure
    })
}

/// All hints of a structure whose columns must not be asked about.
const ALL_NEW: &[Hint] = &[
    Hint { column: "a", origin: Some(Origin::New), fill: Some("key") },
    Hint { column: "b", origin: Some(Origin::New), fill: Some("key") },
    Hint { column: "c", origin: Some(Origin::New), fill: Some("key") },
    Hint { column: "d", origin: Some(Origin::New), fill: Some("key") },
    Hint { column: "e", origin: Some(Origin::New), fill: Some("key") },
];

pub fn all_new() -> [(&'static str, Hints); 3] {
    ["t0", "t1", "t2"].map(|t| (t, Hints { table: Some(Origin::New), columns: ALL_NEW }))
}
