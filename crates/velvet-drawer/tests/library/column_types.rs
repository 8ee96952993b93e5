//! Every column type goes into a real file and comes back, and a condition finds it there.

use crate::common;
use jiff::civil::{Date, DateTime, Time, date, time};
use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::time::Duration;
use uuid::Uuid;
use velvet_drawer::{Choice, Drawer, Key, OutsideFile, Record, Schema, StoredAs};

#[derive(Choice, Clone, Debug, PartialEq)]
enum Form {
    Bowl,
    #[choice(name = "tall jug")]
    Jug,
    #[choice(fallback)]
    Other(String),
}

#[derive(Clone, Copy, Debug, PartialEq)]
struct Cone(i8);

impl StoredAs for Cone {
    type Stored = i8;
    fn to_stored(&self) -> i8 {
        self.0
    }
    fn from_stored(number: i8) -> Result<Cone, String> {
        Ok(Cone(number))
    }
}

#[derive(Default, Clone, Debug, PartialEq)]
struct OnlyRunning(u8);

#[derive(Record, Clone, Debug, PartialEq)]
#[record(name = "order")]
struct All {
    i8: i8,
    i16: i16,
    i32: i32,
    i64: i64,
    u8: u8,
    u16: u16,
    u32: u32,
    u64: u64,
    f32: f32,
    f64: f64,
    bool: bool,
    text: String,
    bytes: Vec<u8>,
    date: Date,
    time: Time,
    date_time: DateTime,
    timestamp: Timestamp,
    signed: SignedDuration,
    duration: Duration,
    #[record(own_key)]
    uuid: Uuid,
    form: Form,
    cone: Cone,
    json: serde_json::Value,
    #[record(json)]
    list: Vec<BTreeMap<String, Option<i32>>>,
    #[record(json)]
    maybe_list: Option<Vec<String>>,
    file: OutsideFile,
    link: Option<Key<All>>,
    maybe_text: Option<String>,
    maybe_number: Option<i64>,
    maybe_cone: Option<Cone>,
    r#type: String,
    #[record(name = "group")]
    select: u8,
    #[record(skip)]
    skipped: OnlyRunning,
}

fn schema() -> Schema {
    Schema::new("types").record::<All>()
}

prop_compose! {
    fn numbers()(a: i8, b: i16, c: i32, d: i64, e: u8, f: u16, g: u32, h in 0..=i64::MAX as u64,
        i in any::<f32>().prop_filter("NaN", |x| !x.is_nan()), j in any::<f64>().prop_filter("NaN", |x| !x.is_nan()))
        -> (i8, i16, i32, i64, u8, u16, u32, u64, f32, f64) { (a, b, c, d, e, f, g, h, i, j) }
}

prop_compose! {
    fn all()(n in numbers(), bool: bool, text: String, bytes: Vec<u8>, day in 1_i8..=28, nanos in 0_i32..1_000_000_000,
        seconds in 0_i64..4_000_000_000, length: i64, uuid: u128, form in prop_oneof![Just(Form::Bowl), Just(Form::Jug),
        "[a-z]{3}".prop_map(|s| Form::Other(format!("new {s}")))], cone: i8, maybe_text: Option<String>,
        maybe_number: Option<i64>, maybe_list: Option<Vec<String>>, name in "[a-z]{1,8}")
        -> All {
        let (i8, i16, i32, i64, u8, u16, u32, u64, f32, f64) = n;
        All {
            i8, i16, i32, i64, u8, u16, u32, u64, f32, f64, bool, bytes,
            json: serde_json::json!({ "name": name, "list": [1, null, { "deep": text }] }),
            list: vec![BTreeMap::from([(text.clone(), maybe_number.map(|n| n as i32))])],
            r#type: text.clone(), text,
            date: date(2025, 3, day), time: time(13, 5, 9, nanos), date_time: date(1999, 12, day).at(0, 0, 1, nanos),
            timestamp: Timestamp::new(seconds, nanos).unwrap(),
            signed: SignedDuration::from_nanos(length), duration: Duration::from_nanos(length.unsigned_abs() / 2),
            uuid: Uuid::from_u128(uuid), form, cone: Cone(cone), maybe_cone: maybe_number.map(|_| Cone(cone)),
            maybe_list, file: OutsideFile::new(format!("{name}/photo.jpg")).unwrap(), link: None, maybe_text, maybe_number,
            select: u8, skipped: OnlyRunning::default(),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn every_type_comes_back_from_the_file_as_it_went_in(records in prop::collection::vec(all(), 1..4)) {
        let (_folder, path) = common::folder();
        let drawer = Drawer::open(&path, schema()).unwrap();
        let mut stored = Vec::new();
        for record in records {
            let mut record = record;
            record.link = stored.last().map(velvet_drawer::Stored::key);
            stored.push(drawer.insert(record).unwrap());
        }
        drawer.close().unwrap();

        let drawer = Drawer::open(&path, schema()).unwrap();
        prop_assert_eq!(drawer.records::<All>().collect().unwrap(), stored.clone());
        for one in &stored {
            prop_assert_eq!(drawer.get_by_own_key::<All>(one.uuid).unwrap().unwrap(), one.clone());
            let found = drawer.records::<All>().filter(|a| {
                a.i8.is(one.i8) & a.text.is(&one.text) & a.uuid.is(one.uuid)
            }).collect().unwrap();
            prop_assert_eq!(&found, std::slice::from_ref(one));
        }
    }
}

#[test]
fn types_of_rust_s_library_refuse_what_is_none_of_theirs() {
    use std::net::Ipv4Addr;
    use std::num::NonZeroU8;
    #[derive(Record, Debug)]
    struct Device {
        letter: char,
        slots: NonZeroU8,
        address: Ipv4Addr,
        code: [u8; 3],
    }
    let (_folder, path) = common::folder();
    let drawer = Drawer::open(&path, Schema::new("devices").record::<Device>()).unwrap();
    let (slots, address) = (NonZeroU8::new(3).unwrap(), Ipv4Addr::LOCALHOST);
    let device = drawer.insert(Device { letter: 'K', slots, address, code: [1, 2, 3] }).unwrap();
    let found =
        drawer.records::<Device>().filter(|d| d.letter.is('K') & d.slots.at_least(slots) & d.address.is(address));
    assert_eq!(found.count().unwrap(), 1);
    for (column, value, says) in [
        ("letter", "'Ka'", "is not one character"),
        ("letter", "''", "is not one character"),
        ("slots", "0", "must not be there"),
        ("address", "'1.2.3'", "is not an IPv4 address"),
        ("code", "x'0102'", "has 2 bytes, where 3 must be"),
    ] {
        common::other_program(&path).execute_batch(&format!("UPDATE device SET {column} = {value}")).unwrap();
        let error = drawer.get(device.key()).unwrap_err();
        assert!(error.is_unreadable() && error.to_string().contains(says), "{error}");
        drawer.replace(device.key(), Device { letter: 'K', slots, address, code: [1, 2, 3] }).unwrap();
    }
}

/// What another package has, there and back, beside what it is in the file.
#[cfg(all(feature = "chrono", feature = "time", feature = "decimal"))]
mod of_other_packages {
    use super::*;
    use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime, Utc};
    use rust_decimal::Decimal;

    #[derive(Record, Clone, Debug, PartialEq)]
    struct Sale {
        day: NaiveDate,
        hour: NaiveTime,
        both: NaiveDateTime,
        moment: Option<DateTime<Utc>>,
        other_day: time::Date,
        other_hour: time::Time,
        other_both: time::PrimitiveDateTime,
        other_moment: time::OffsetDateTime,
        price: Decimal,
    }

    fn sale(text: &str, price: &str) -> Sale {
        let moment: DateTime<Utc> = format!("{text}Z").parse().unwrap();
        let other_moment = time::OffsetDateTime::from_unix_timestamp(moment.timestamp()).unwrap();
        let other_moment = other_moment.replace_nanosecond(moment.timestamp_subsec_nanos()).unwrap();
        Sale {
            day: moment.date_naive(),
            hour: moment.time(),
            both: moment.naive_utc(),
            moment: Some(moment),
            other_day: other_moment.date(),
            other_hour: other_moment.time(),
            other_both: time::PrimitiveDateTime::new(other_moment.date(), other_moment.time()),
            other_moment,
            price: price.parse().unwrap(),
        }
    }

    #[test]
    fn they_come_back_sorted_and_are_stored_as_everybody_s() {
        let (_folder, path) = common::folder();
        let drawer = Drawer::open(&path, Schema::new("sales").record::<Sale>()).unwrap();
        let sales = [
            sale("0000-01-01T00:00:00", "0"),
            sale("1969-12-31T23:59:59.999999999", "-0.10"),
            sale("2025-03-08T14:30:00.5", "79228162514264337593543950335"),
            sale("9999-12-30T22:00:00", "0.0000000000000000000000000001"),
        ];
        for sale in sales.iter().rev() {
            drawer.insert(sale.clone()).unwrap();
        }
        let read = drawer.records::<Sale>().sort_by(|s| s.moment.ascending()).collect().unwrap();
        assert_eq!(read.into_iter().map(|s| s.into_record()).collect::<Vec<_>>(), sales);
        let later = drawer.records::<Sale>().filter(|s| s.other_day.more_than(sales[1].other_day)).count().unwrap();
        assert_eq!(
            (later, drawer.records::<Sale>().filter(|s| s.price.is("-0.1".parse().unwrap())).count().unwrap()),
            (2, 1)
        );
        let stored: (String, String, String, String) = common::other_program(&path)
            .query_row("SELECT both, moment, other_moment, price FROM sale WHERE price = '-0.1'", [], |row| {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))
            })
            .unwrap();
        let text = "1969-12-31T23:59:59.999999999";
        assert_eq!(stored, (text.into(), format!("{text}Z"), format!("{text}Z"), "-0.1".into()));
        let beyond = Sale { day: NaiveDate::from_ymd_opt(12_000, 1, 1).unwrap(), ..sales[0].clone() };
        let error = drawer.insert(beyond).unwrap_err();
        assert!(error.is_misfit() && error.to_string().contains("+12000-01-01 lies outside the years"), "{error}");
    }
}
