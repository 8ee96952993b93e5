//! Three versions of one app's schema, and their history.

use std::sync::LazyLock;
use velvet_core::evolve::{History, Step, draft};
use velvet_core::schema::hints::Hints;
use velvet_core::schema::structure::{Structure, Table};
use velvet_drawer::{Error, Record, Schema, Upgrade};

pub mod v1 {
    use velvet_drawer::{Key, Record};

    #[derive(Record, Clone, Debug, PartialEq)]
    pub struct Piece {
        #[record(own_key)]
        pub mark: String,
        pub wt: Option<f64>,
        #[record(indexed)]
        pub glaze: String,
        pub sketch: Vec<u8>,
    }

    #[derive(Record, Clone, Debug, PartialEq)]
    pub struct Photo {
        #[record(link(on_delete = remove))]
        pub piece: Key<Piece>,
        pub side: String,
    }
}

pub mod v2 {
    use velvet_drawer::{Key, Record};

    #[derive(Record, Clone, Debug, PartialEq)]
    pub struct Shelf {
        #[record(own_key)]
        pub name: String,
    }

    #[derive(Record, Clone, Debug, PartialEq)]
    pub struct Piece {
        #[record(own_key)]
        pub mark: String,
        pub wt: Option<f64>,
        #[record(indexed)]
        pub glaze: String,
        pub sketch: Vec<u8>,
        pub shelf: Option<Key<Shelf>>,
        #[record(default = 1)]
        pub copies: u32,
    }

    #[derive(Record, Clone, Debug, PartialEq)]
    pub struct Photo {
        #[record(link(on_delete = remove))]
        pub piece: Key<Piece>,
        pub side: String,
    }
}

pub mod v3 {
    use super::v2::Shelf;
    use velvet_drawer::{Key, Record};

    #[derive(Record, Clone, Debug, PartialEq)]
    pub struct Glaze {
        #[record(own_key)]
        pub name: String,
    }

    #[derive(Record, Clone, Debug, PartialEq)]
    #[record(name = "pot", was = "piece")]
    pub struct Piece {
        #[record(own_key)]
        pub mark: String,
        #[record(was = "wt", fill = "round(grams * 1000)")]
        pub grams: Option<u32>,
        #[record(fill = "(SELECT glaze.key FROM glaze WHERE name = pot.glaze)")]
        pub glaze: Option<Key<Glaze>>,
        pub shelf: Option<Key<Shelf>>,
        #[record(default = 1)]
        pub copies: u32,
    }

    #[derive(Record, Clone, Debug, PartialEq)]
    pub struct Photo {
        #[record(link(on_delete = remove))]
        pub piece: Key<Piece>,
        pub side: String,
    }
}

/// The records of each version.
pub fn records(version: u32) -> Schema {
    let schema = Schema::new("kilnbook");
    match version {
        1 => schema.record::<v1::Piece>().record::<v1::Photo>(),
        2 => schema.record::<v2::Piece>().record::<v2::Photo>().record::<v2::Shelf>(),
        _ => schema.record::<v3::Piece>().record::<v3::Photo>().record::<v2::Shelf>().record::<v3::Glaze>(),
    }
}

fn structure(tables: Vec<Result<Table, velvet_drawer::Misfit>>) -> Structure {
    Structure { tables: tables.into_iter().map(Result::unwrap).collect() }
}

pub fn structure_of(version: u32) -> Structure {
    match version {
        1 => structure(vec![v1::Piece::table(), v1::Photo::table()]),
        2 => structure(vec![v2::Piece::table(), v2::Photo::table(), v2::Shelf::table()]),
        _ => structure(vec![v3::Piece::table(), v3::Photo::table(), v2::Shelf::table(), v3::Glaze::table()]),
    }
}

/// The history up to a version, as it was checked in when that version was released.
pub fn history(version: u32) -> &'static str {
    static ALL: LazyLock<[&'static str; 3]> = LazyLock::new(|| {
        let mut history = History::start("kilnbook", &structure_of(1));
        history.versions[0].released = true;
        let mut all = [leaked(&history); 3];
        for version in 2..=3 {
            let hints: &[(&str, Hints)] = if version == 3 { &[("pot", v3::Piece::HINTS)] } else { &[] };
            let drafted = draft(&structure_of(version - 1), &structure_of(version), hints, &[], &[]);
            assert_eq!(drafted.questions, [""; 0]);
            let codes = if version == 3 { vec!["split_glazes".to_owned()] } else { Vec::new() };
            history = history.recorded(&structure_of(version), drafted, &codes);
            history.versions[0].released = true;
            all[version as usize - 1] = leaked(&history);
        }
        all
    });
    ALL[version as usize - 1]
}

/// The newest history, with one more change at the end of version 3.
pub fn history_with(change: Step) -> &'static str {
    let mut history = History::parse(history(3)).unwrap();
    history.versions[0].steps.push(change);
    leaked(&history)
}

pub fn leaked(history: &History) -> &'static str {
    Box::leak(history.to_json().into_boxed_str())
}

/// The app at a version.
pub fn schema(version: u32) -> Schema {
    records(version).history(history(version)).code("split_glazes", split_glazes)
}

/// Turns the free text of glazes into records.
pub fn split_glazes(upgrade: &Upgrade<'_>) -> Result<(), Error> {
    let mut names = Vec::new();
    upgrade.rows("SELECT DISTINCT glaze FROM pot WHERE glaze <> ?1 ORDER BY 1", &["".into()], |row| {
        names.push(row.get::<String>(0)?);
        Ok(())
    })?;
    for name in names {
        upgrade.run("INSERT INTO glaze (name) VALUES (?1)", &[name.into()])?;
    }
    Ok(())
}
