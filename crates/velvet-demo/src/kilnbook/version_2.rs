//! Version 2: shelves.

use super::version_1::{Article, Clay, Firing, Stage};
use jiff::civil::Date;
use velvet_drawer::{Key, OutsideFile, Record, Schema};

/// A shelf of the studio.
#[derive(Record, Clone, Debug, PartialEq)]
pub struct Shelf {
    /// What is written on it.
    #[record(own_key)]
    pub name: String,
    /// How many pieces it holds.
    pub holds: u16,
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
    /// Its weight in kilograms, when somebody weighed it.
    pub wt: Option<f64>,
    /// Its glaze, in the potter's own words.
    #[record(default = "")]
    pub glaze: String,
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
    /// What there is to say about it.
    pub remarks: String,
}

/// The schema of the app's version 2.
///
/// ```
/// velvet_demo::kilnbook::version_2::schema().check().unwrap();
/// ```
pub fn schema() -> Schema {
    Schema::new("kilnbook")
        .record::<Piece>()
        .record::<Firing>()
        .record::<Article>()
        .record::<Shelf>()
        .history(include_str!("../../histories/version-2.json"))
}
