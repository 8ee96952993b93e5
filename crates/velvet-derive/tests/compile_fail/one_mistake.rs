//! One mistake in a definition is one error, however often the type is used.
use velvet_drawer::{Choice, Drawer, Error, Excerpt, Key, Record, Schema};

#[derive(Choice, Clone, PartialEq)]
enum Stage {
    Thrown,
    #[choice(nmae = "bisque fired")]
    Bisque,
}

#[derive(Record, Debug)]
#[record(shared)]
struct Glaze {
    #[record(kye)]
    name: String,
    #[record(serachable)]
    remarks: String,
}

#[derive(Record)]
struct Piece {
    #[record(own_key)]
    mark: String,
    #[record(idnexed)]
    stage: Stage,
    glaze: Option<Key<Glaze>>,
    grams: Option<u32>,
}

#[derive(Record)]
enum Clay {
    White,
}

#[derive(Record)]
struct Bag {
    clay: Clay,
}

#[derive(Excerpt)]
struct Weight {
    #[excerpt(nmae = "grams")]
    weight: Option<u32>,
}

fn use_them(drawer: &Drawer) -> Result<(), Error> {
    let schema = Schema::new("kilnbook").record::<Piece>().record::<Glaze>().record::<Bag>();
    let glaze = drawer.insert(Glaze { name: String::new(), remarks: String::new() })?;
    let bowl = drawer.insert(Piece { mark: "K-1".into(), stage: Stage::Thrown, glaze: Some(glaze.key()), grams: None })?;
    drawer.change(bowl.key(), |p| p.stage = Stage::Bisque)?;
    drawer.get_by_own_key::<Piece>("K-1")?;
    drawer.insert(Bag { clay: Clay::White })?;
    let heavy = drawer.records::<Piece>().filter(|p| p.grams.at_least(500) & p.stage.is(Stage::Bisque));
    heavy.sort_by(|p| p.mark.ascending()).limit(3).collect()?;
    drawer.records::<Piece>().with(|p| p.glaze).collect()?;
    drawer.sql("select grams from piece").rows::<Weight>()?;
    drop(schema);
    Ok(())
}

fn main() {}
