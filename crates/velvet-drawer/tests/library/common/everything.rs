//! One schema that has every kind of column and every attribute, and awkward names. A new kind of column goes in here first.

use jiff::civil::{Date, DateTime, Time, date, time};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::num::NonZeroI64;
use std::time::Duration;
use uuid::Uuid;
use velvet_drawer::{Choice, Drawer, Error, Key, OutsideFile, Record, Schema, Settings, StoredAs};

#[derive(Choice, Clone, Debug, PartialEq)]
pub enum Form {
    Bowl,
    #[choice(name = "please select")]
    Select,
    #[choice(fallback)]
    Other(String),
}

/// In degrees, 0 to 359.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bearing(pub u16);

impl StoredAs for Bearing {
    type Stored = u16;
    fn to_stored(&self) -> u16 {
        self.0
    }
    fn from_stored(degrees: u16) -> Result<Bearing, String> {
        if degrees < 360 { Ok(Bearing(degrees)) } else { Err("is no bearing (0 to 359)".into()) }
    }
}

#[derive(Serialize, Deserialize, Clone, Debug, Default, PartialEq)]
pub struct Curve {
    pub celsius: Vec<f64>,
    pub note: Option<String>,
}

#[derive(Default, Clone, Debug, PartialEq)]
pub struct OnlyRunning(pub u8);

#[derive(Record, Clone, Debug, PartialEq)]
#[record(name = "select", shared, unique(form, order))]
pub struct Everything {
    #[record(own_key)]
    pub mark: String,
    #[record(unique)]
    pub uuid: Option<Uuid>,
    #[record(unique, ignore_case)]
    pub alias: Option<String>,
    #[record(searchable)]
    pub title: String,
    #[record(searchable)]
    pub remarks: Option<String>,
    pub i8: i8,
    pub i16: i16,
    pub i32: i32,
    pub i64: i64,
    pub u8: u8,
    pub u16: u16,
    pub u32: u32,
    pub u64: u64,
    pub f32: f32,
    pub f64: f64,
    pub maybe_f64: Option<f64>,
    pub bool: bool,
    #[record(private)]
    pub secret: Option<Vec<u8>>,
    pub bytes: Vec<u8>,
    #[record(indexed)]
    pub day: Date,
    pub time: Time,
    pub date_time: DateTime,
    pub timestamp: Timestamp,
    pub signed: SignedDuration,
    pub duration: Duration,
    #[record(default = Form::Select)]
    pub form: Form,
    #[record(name = "group")]
    pub order: u8,
    pub bearing: Bearing,
    pub maybe_bearing: Option<Bearing>,
    pub json: serde_json::Value,
    #[record(json)]
    pub curve: Curve,
    #[record(json)]
    pub maybe_curve: Option<Curve>,
    #[record(json, fallback)]
    pub loose: Curve,
    pub file: OutsideFile,
    #[record(link(on_delete = clear))]
    pub twin: Option<Key<Everything>>,
    #[record(link(on_delete = remove))]
    pub owner: Option<Key<Owner>>,
    pub r#type: String,
    pub letter: char,
    pub never_zero: NonZeroI64,
    pub address: Option<IpAddr>,
    pub four: [u8; 4],
    #[record(searchable)]
    pub boxed: Box<str>,
    #[record(skip)]
    pub skipped: OnlyRunning,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
pub struct Owner {
    #[record(own_key)]
    pub name: String,
    #[record(created)]
    pub since: Option<Timestamp>,
    #[record(changed)]
    pub touched: Option<Timestamp>,
}

impl Owner {
    pub fn named(name: &str) -> Owner {
        Owner { name: name.into(), since: None, touched: None }
    }
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(named, shared)]
pub struct Said {
    pub name: String,
    #[record(json)]
    pub value: Option<Curve>,
}

#[derive(Settings, Clone, Debug, PartialEq)]
#[settings(name = "table", shared, private)]
pub struct Settled {
    pub curve: Curve,
    #[settings(name = "group", default = "'")]
    pub order: String,
    pub nothing: Option<i64>,
}

pub fn schema() -> Schema {
    Schema::new("everything").record::<Everything>().record::<Owner>().record::<Said>().settings::<Settled>()
}

/// Names at their limits, each with a value.
fn said() -> Vec<(String, Option<Curve>)> {
    let [least, greatest] = at_limits();
    let names = [least.mark, greatest.mark, least.r#type, "a\0b".into(), "n".repeat(3_000)];
    names.into_iter().zip([least.maybe_curve, None, Some(least.curve), Some(greatest.curve), None]).collect()
}

fn settled() -> Settled {
    let [least, greatest] = at_limits();
    Settled { curve: least.curve, order: greatest.mark, nothing: Some(i64::MIN) }
}

/// Writes what is no record: named values and settings.
pub fn write_the_rest(drawer: &Drawer) -> Result<(), Error> {
    drawer.write(|tx| {
        tx.named::<Said>().merge(said().iter().map(|(name, value)| (name.as_str(), value.clone())))?;
        tx.settings::<Settled>().of("a/b").replace(settled())?;
        tx.settings::<Settled>().change(|all| all.nothing = Some(i64::MAX)).map(drop)
    })
}

/// Fails where what is no record is not as it was written.
pub fn the_rest_is_there(drawer: &Drawer) -> Result<(), Error> {
    let found = drawer.named::<Said>().records().collect()?.into_iter().map(|s| s.into_record());
    let mut found: Vec<_> = found.map(|s| (s.name, s.value)).collect();
    let mut expected = said();
    // Other devices have another order.
    found.sort_by(|a, b| a.0.cmp(&b.0));
    expected.sort_by(|a, b| a.0.cmp(&b.0));
    let all = drawer.settings::<Settled>();
    let (own, of_none) = (all.clone().of("a/b").get()?, all.get()?);
    let default = Settled { nothing: Some(i64::MAX), ..Settled::defaults() };
    match found == expected && *own == settled() && *of_none == default {
        true => Ok(()),
        false => Err(Error::own(format!("there are {found:?}, {own:?}, {of_none:?}"))),
    }
}

/// A record whose values are ordinary; `number` makes its unique ones.
pub fn plain(number: u8) -> Everything {
    Everything {
        mark: format!("E-{number}"),
        uuid: Some(Uuid::from_u128(number.into())),
        alias: None,
        title: format!("Tall “bowl” no. {number}"),
        remarks: None,
        i8: -1,
        i16: -2,
        i32: -3,
        i64: -4,
        u8: 1,
        u16: 2,
        u32: 3,
        u64: 4,
        f32: 0.1,
        f64: 0.1,
        maybe_f64: None,
        bool: true,
        secret: None,
        bytes: Vec::new(),
        day: date(2025, 3, 8),
        time: time(13, 5, 9, 0),
        date_time: date(2025, 3, 8).at(13, 5, 9, 120),
        timestamp: Timestamp::UNIX_EPOCH,
        signed: SignedDuration::from_nanos(-1),
        duration: Duration::from_secs(90),
        form: Form::Bowl,
        order: number,
        bearing: Bearing(90),
        maybe_bearing: None,
        json: serde_json::Value::Null,
        curve: Curve::default(),
        maybe_curve: None,
        loose: Curve::default(),
        file: OutsideFile::new("photos/bowl.jpg").unwrap(),
        twin: None,
        owner: None,
        r#type: "'; --".into(),
        letter: 'a',
        never_zero: NonZeroI64::MIN,
        address: None,
        four: [0; 4],
        boxed: "".into(),
        skipped: OnlyRunning::default(),
    }
}

/// Records whose values are at their limits: the least, the greatest, the longest, the oddest.
pub fn at_limits() -> [Everything; 2] {
    let least = Everything {
        mark: String::new(),
        uuid: Some(Uuid::nil()),
        alias: Some("@Z`\0ÄÖ".into()),
        title: String::new(),
        remarks: Some(String::new()),
        i8: i8::MIN,
        i16: i16::MIN,
        i32: i32::MIN,
        i64: i64::MIN,
        u8: 0,
        u16: 0,
        u32: 0,
        u64: 0,
        f32: f32::NEG_INFINITY,
        f64: f64::NEG_INFINITY,
        maybe_f64: Some(f64::MIN_POSITIVE),
        bool: false,
        secret: Some(Vec::new()),
        bytes: vec![0],
        day: date(0, 1, 1),
        time: time(0, 0, 0, 0),
        date_time: date(0, 1, 1).at(0, 0, 0, 0),
        timestamp: "0000-01-01T00:00:00Z".parse().unwrap(),
        signed: SignedDuration::from_nanos(i64::MIN),
        duration: Duration::ZERO,
        form: Form::Select,
        order: 0,
        bearing: Bearing(0),
        maybe_bearing: Some(Bearing(359)),
        json: serde_json::json!({ "": [null, [], {}, -0.5, i64::MIN, u64::MAX] }),
        curve: Curve { celsius: vec![f64::MAX, f64::MIN, 5e-324, 0.1 + 0.2], note: Some("null".into()) },
        maybe_curve: Some(Curve::default()),
        loose: Curve { celsius: vec![-0.5], note: None },
        letter: '\0',
        address: Some(Ipv6Addr::UNSPECIFIED.into()),
        boxed: "\0".into(),
        r#type: "\u{feff}\t\r\n\"'`;--/*\u{202e}\u{1b}[31m𐀀".into(),
        ..plain(0)
    };
    let greatest = Everything {
        mark: "ß ſ ﬃ İ ı Σς ё é e\u{301} 日本 ไทย 🏺".into(),
        uuid: Some(Uuid::max()),
        alias: Some("[z".into()),
        title: "select \"x\" from [y] where 'z' -- \\ % _".into(),
        remarks: Some("a\u{0}b, \"NULL\"\n\r\n".into()),
        i8: i8::MAX,
        i16: i16::MAX,
        i32: i32::MAX,
        i64: i64::MAX,
        u8: u8::MAX,
        u16: u16::MAX,
        u32: u32::MAX,
        u64: i64::MAX as u64,
        f32: f32::INFINITY,
        f64: f64::INFINITY,
        maybe_f64: Some(1e308),
        secret: Some((0..=255).collect()),
        bytes: (0..=255).rev().collect(),
        day: date(9999, 12, 31),
        time: time(23, 59, 59, 999_999_999),
        date_time: date(9999, 12, 31).at(23, 59, 59, 999_999_999),
        timestamp: Timestamp::MAX,
        signed: SignedDuration::from_nanos(i64::MAX),
        duration: Duration::from_nanos(i64::MAX as u64),
        form: Form::Other("one of a newer app".into()),
        order: 255,
        r#type: "NULL".into(),
        letter: char::MAX,
        never_zero: NonZeroI64::MAX,
        address: Some(Ipv4Addr::BROADCAST.into()),
        four: [255, 0, 1, 254],
        boxed: "日本 é".into(),
        ..plain(255)
    };
    [least, greatest]
}
