//! Define, open, write, read, close, and open again: what an app keeps from one start to the next.
//!
//! `cargo run --example first_drawer`

use velvet_drawer::{Choice, Drawer, Error, Key, Record, Schema};

#[derive(Choice, Clone, Copy, Debug, PartialEq)]
enum Stage {
    Thrown,
    Bisque,
    Glazed,
    #[choice(fallback)]
    Unsure,
}

#[derive(Record, Debug)]
struct Glaze {
    #[record(own_key)]
    name: String,
}

#[derive(Record, Debug)]
struct Piece {
    #[record(own_key)]
    mark: String,
    #[record(indexed)]
    stage: Stage,
    grams: Option<u32>,
    #[record(link(on_delete = clear))]
    glaze: Option<Key<Glaze>>,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Piece>().record::<Glaze>()
}

fn main() -> Result<(), Error> {
    let folder = tempfile::tempdir().map_err(Error::own)?;
    let path = folder.path().join("kiln.drawer");

    let drawer = Drawer::open(&path, schema())?;
    let piece = |mark: &str, grams| Piece { mark: mark.into(), stage: Stage::Thrown, grams, glaze: None };
    let bowl = drawer.insert(piece("K-101", Some(640)))?;
    drawer.insert_all([piece("K-102", None), piece("K-103", Some(1280))])?;
    drawer.write(|tx| {
        let glaze = tx.get_or_insert(Glaze { name: "Tenmoku".into() })?;
        tx.change(bowl.key(), |p| {
            p.stage = Stage::Glazed;
            p.glaze = Some(glaze.key());
        })
    })?;
    drawer.close()?;

    let drawer = Drawer::open(&path, schema())?;
    println!("{}", drawer.records::<Piece>().sort_by(|p| p.grams.descending()).table()?);

    let waiting = drawer.records::<Piece>().filter(|p| p.stage.one_of([Stage::Thrown, Stage::Bisque])).count()?;
    println!("{waiting} pieces wait for the kiln.");

    let error = drawer.insert(piece("K-101", None)).unwrap_err();
    println!("A mark is given once: {error}");
    Ok(())
}
