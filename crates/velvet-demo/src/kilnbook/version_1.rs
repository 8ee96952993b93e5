//! Version 1: pieces with their glaze in free text, firings, the supplier's articles.

use jiff::SignedDuration;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use velvet_drawer::{Choice, Key, OutsideFile, Record, Schema, StoredAs};

/// How far a piece has come.
#[derive(Choice, Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stage {
    /// Made, and drying.
    Thrown,
    /// Fired once.
    Bisque,
    /// Glazed, and fired again.
    Glazed,
    /// A stage that a newer app knows.
    #[choice(fallback)]
    Unsure,
}

/// The clays of the studio.
#[derive(Choice, Serialize, Deserialize, Clone, Copy, Debug, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum Clay {
    /// Grey stoneware.
    Stoneware,
    /// White porcelain.
    Porcelain,
    /// Red earthenware.
    Earthenware,
}

/// A pyrometric cone: how much heat a firing gave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cone(pub i8);

impl StoredAs for Cone {
    type Stored = i8;

    fn to_stored(&self) -> i8 {
        self.0
    }

    fn from_stored(number: i8) -> Result<Cone, String> {
        if (-22..=42).contains(&number) { Ok(Cone(number)) } else { Err("is not a cone (-22 to 42)".into()) }
    }
}

/// A temperature on the way up.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Reading {
    /// Minutes since the kiln was lit.
    pub minute: u32,
    /// Degrees Celsius.
    pub celsius: u16,
}

/// One firing of the kiln.
#[derive(Record, Clone, Debug, PartialEq)]
pub struct Firing {
    /// When the kiln was lit.
    #[record(own_key)]
    pub lit_at: jiff::Timestamp,
    /// How long it burned.
    pub burned: SignedDuration,
    /// The cone that fell.
    pub cone: Cone,
    /// How much wood it took, in kilograms.
    pub wood: f64,
    /// The temperatures on the way up.
    #[record(json)]
    pub readings: Vec<Reading>,
    /// Whether all went well.
    pub even: bool,
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
    /// A photo, in the app's folder of photos.
    pub photo: Option<OutsideFile>,
    /// A small picture of it.
    pub thumbnail: Option<Vec<u8>>,
    /// What there is to say about it.
    pub remarks: String,
}

/// One article of the supplier.
#[derive(Record, Clone, Debug, PartialEq)]
pub struct Article {
    /// The supplier's number.
    #[record(own_key)]
    pub number: String,
    /// Its name.
    #[record(indexed)]
    pub name: String,
    /// Its price in cents.
    pub cents: u32,
    /// Whether the supplier has it.
    pub in_stock: bool,
}

/// The schema of the app's version 1.
///
/// ```
/// velvet_demo::kilnbook::version_1::schema().check().unwrap();
/// ```
pub fn schema() -> Schema {
    Schema::new("kilnbook")
        .record::<Piece>()
        .record::<Firing>()
        .record::<Article>()
        .history(include_str!("../../histories/version-1.json"))
}
