//! Version 2: shelves, the bench's settings, counters and lists.

use super::version_1::{Article, Clay, Firing, Stage};
use jiff::civil::Date;
use velvet_drawer::{Key, OutsideFile, Record, Schema, Settings};

/// A shelf of the studio.
#[derive(Record, Clone, Debug, PartialEq)]
pub struct Shelf {
    /// What is written on it.
    #[record(own_key)]
    pub name: String,
    /// How many pieces it holds.
    pub holds: u16,
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
}

/// The last number that was given, for each kind of mark.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(named)]
pub struct LastMark {
    /// The letter before the number.
    pub name: String,
    /// The number.
    pub value: u32,
}

/// Lists that hang on the wall.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(named)]
pub struct List {
    /// What is written above it.
    pub name: String,
    /// Its lines.
    #[record(json)]
    pub value: Vec<String>,
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
        .record::<LastMark>()
        .record::<List>()
        .settings::<Bench>()
        .history(include_str!("../../histories/version-2.json"))
}
