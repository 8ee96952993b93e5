//! Version 3: glazes and errands are records of their own, weights are whole grams, and pieces have pictures.

use super::version_1::{Article, Clay, Firing, Stage};
use super::version_2::{LastMark, List, Shelf};
use jiff::civil::Date;
use std::collections::BTreeMap;
use velvet_drawer::{Attachment, Error, Key, OutsideFile, Record, Schema, Settings, Upgrade};

/// The history of the schema, as it is checked in.
pub const HISTORY: &str = include_str!("../../histories/version-3.json");

/// A glaze.
#[derive(Record, Clone, Debug, PartialEq)]
pub struct Glaze {
    /// Its name.
    #[record(own_key)]
    pub name: String,
    /// How potters wrote it before it had a name, one wording a line.
    #[record(searchable)]
    pub wordings: String,
}

/// Something to buy, which was a line of a list before.
#[derive(Record, Clone, Debug, PartialEq)]
pub struct Errand {
    /// What to buy.
    pub what: String,
    /// Whether somebody has.
    #[record(default = false)]
    pub done: bool,
}

/// The settings of the bench on which the phone lies.
#[derive(Settings, Clone, Debug, PartialEq)]
pub struct Bench {
    /// How hot the kiln may become.
    #[settings(default = 1240)]
    pub top_celsius: u32,
    /// The clay that a new piece is of unless somebody says otherwise.
    #[settings(default = Clay::Stoneware)]
    pub usual_clay: Clay,
    /// The glaze that was used last.
    pub last_glaze: Option<Key<Glaze>>,
}

/// One piece of pottery.
#[derive(Record, Clone, Debug, PartialEq)]
pub struct Piece {
    /// The mark scratched into its foot.
    #[record(own_key)]
    pub mark: String,
    /// How far it has come.
    #[record(indexed)]
    pub stage: Stage,
    /// What it is made of.
    pub clay: Clay,
    /// Its weight in grams, when somebody weighed it.
    #[record(was = "wt", fill = "round(grams * 1000)")]
    pub grams: Option<u32>,
    /// Its glaze.
    #[record(link(on_delete = refuse), fill = "(SELECT g.key FROM glaze g WHERE instr(char(10) || g.wordings || char(10), char(10) || piece.glaze || char(10)))")]
    pub glaze: Option<Key<Glaze>>,
    /// When it was thrown.
    #[record(indexed)]
    pub thrown_on: Date,
    /// The last firing it was in.
    #[record(link(on_delete = clear))]
    pub firing: Option<Key<Firing>>,
    /// The shelf it stands on.
    #[record(link(on_delete = clear))]
    pub shelf: Option<Key<Shelf>>,
    /// A photo, in the app's folder of photos.
    pub photo: Option<OutsideFile>,
    /// A small picture of it.
    pub thumbnail: Option<Vec<u8>>,
    /// A picture of it, which goes with the last piece that it shows.
    #[record(link(on_delete = clear), remove_unlinked)]
    pub picture: Option<Key<Attachment>>,
    /// What there is to say about it.
    #[record(searchable)]
    pub remarks: String,
}

/// The schema of the app's version 3.
///
/// ```
/// velvet_demo::kilnbook::version_3::schema().check().unwrap();
/// ```
pub fn schema() -> Schema {
    Schema::new("kilnbook")
        .record::<Piece>()
        .record::<Firing>()
        .record::<Article>()
        .record::<Shelf>()
        .record::<LastMark>()
        .record::<List>()
        .record::<Glaze>()
        .record::<Errand>()
        .settings::<Bench>()
        .attachments()
        .history(HISTORY)
        .code("split_glazes", split_glazes)
}

/// Turns the free text of glazes into records: “Tenmoku, thin” and “tenmoku” are one glaze.
fn split_glazes(upgrade: &Upgrade<'_>) -> Result<(), Error> {
    let mut glazes: BTreeMap<String, Vec<String>> = BTreeMap::new();
    upgrade.rows("SELECT DISTINCT glaze FROM piece WHERE glaze <> '' ORDER BY glaze", &[], |row| {
        let wording: String = row.get::<String>(0)?;
        let name = wording.split([',', '(']).next().unwrap_or_default().trim().to_lowercase();
        glazes.entry(name).or_default().push(wording);
        Ok(())
    })?;
    for (name, wordings) in glazes {
        upgrade.run("INSERT INTO glaze (name, wordings) VALUES (?, ?)", &[name.into(), wordings.join("\n").into()])?;
    }
    Ok(())
}
