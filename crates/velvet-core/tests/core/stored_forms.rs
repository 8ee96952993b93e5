//! What values become in the file, and what comes back.

use jiff::civil::{Date, DateTime, Time};
use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use std::time::Duration;
use velvet_core::column_type::{stored_arg, stored_value};
use velvet_core::{ColumnType, Json, Key, OutsideFile, StoredAs, Value, ValueRef};

/// The stored form, which must be text.
fn text<C: ColumnType>(value: &C::Value) -> String {
    match stored_value::<C>(value) {
        Ok(Value::Text(text)) => text,
        other => panic!("not text: {other:?}"),
    }
}

fn dates() -> impl Strategy<Value = Date> {
    (0_i16..=9999, 1_i8..=12, 1_i8..=28).prop_map(|(y, m, d)| jiff::civil::date(y, m, d))
}

fn times() -> impl Strategy<Value = Time> {
    (0_i8..24, 0_i8..60, 0_i8..60, 0_i32..1_000_000_000).prop_map(|(h, m, s, n)| jiff::civil::time(h, m, s, n))
}

fn timestamps() -> impl Strategy<Value = Timestamp> {
    (-62_135_596_800_i64..253_402_200_000, 0_i32..1_000_000_000).prop_map(|(s, n)| Timestamp::new(s, n).unwrap())
}

proptest! {
    #[test]
    fn the_order_of_stored_text_is_the_order_in_time(
        (a, b) in (timestamps(), timestamps()),
        (c, d) in (dates(), dates()),
        (e, f) in (times(), times()),
    ) {
        prop_assert_eq!(text::<Timestamp>(&a).cmp(&text::<Timestamp>(&b)), a.cmp(&b));
        prop_assert_eq!(text::<Date>(&c).cmp(&text::<Date>(&d)), c.cmp(&d));
        prop_assert_eq!(text::<Time>(&e).cmp(&text::<Time>(&f)), e.cmp(&f));
        let (g, h) = (c.to_datetime(e), d.to_datetime(f));
        prop_assert_eq!(text::<DateTime>(&g).cmp(&text::<DateTime>(&h)), g.cmp(&h));
    }

    #[test]
    fn times_come_back_as_they_were(at in timestamps(), date in dates(), time in times(), nanoseconds: i64) {
        prop_assert_eq!(Timestamp::load(ValueRef::Text(&text::<Timestamp>(&at))).unwrap(), at);
        prop_assert_eq!(Date::load(ValueRef::Text(&text::<Date>(&date))).unwrap(), date);
        prop_assert_eq!(Time::load(ValueRef::Text(&text::<Time>(&time))).unwrap(), time);
        let length = SignedDuration::from_nanos(nanoseconds);
        prop_assert_eq!(stored_value::<SignedDuration>(&length).unwrap(), Value::Integer(nanoseconds));
        prop_assert_eq!(SignedDuration::load(ValueRef::Integer(nanoseconds)).unwrap(), length);
    }

    #[test]
    fn small_numbers_are_read_only_when_they_fit(number: i64) {
        prop_assert_eq!(u8::load(ValueRef::Integer(number)).ok(), u8::try_from(number).ok());
        prop_assert_eq!(i16::load(ValueRef::Integer(number)).ok(), i16::try_from(number).ok());
        prop_assert_eq!(u64::load(ValueRef::Integer(number)).ok(), u64::try_from(number).ok());
    }
}

#[test]
fn time_stamps_have_nine_digits_and_utc() {
    let at: Timestamp = "2025-03-08T14:30:00.5+01:00".parse().unwrap();
    assert_eq!(text::<Timestamp>(&at), "2025-03-08T13:30:00.500000000Z");
    assert_eq!(text::<Date>(&jiff::civil::date(7, 1, 2)), "0007-01-02");
}

/// What a misfit says, with its advice.
fn refusal(result: Result<impl std::fmt::Debug, velvet_core::Misfit>) -> String {
    let misfit = result.unwrap_err();
    misfit.to_string() + &misfit.advice.map(|a| format!(" | {a}")).unwrap_or_default()
}

#[test]
fn what_has_no_stored_form_says_why() {
    let too_large = "18446744073709551615 is above 9223372036854775807, the largest whole number the file can hold";
    assert_eq!(refusal(stored_value::<u64>(&u64::MAX)), format!("{too_large} | Keep such numbers as text or bytes"));
    assert!(
        refusal(stored_value::<f64>(&f64::NAN)).starts_with("NaN is not a number, and the file would silently keep")
    );
    assert!(refusal(stored_arg::<Option<f32>>(f32::NAN)).starts_with("NaN is not a number"));
    let long = Duration::from_secs(400 * 366 * 24 * 3600);
    assert!(refusal(stored_value::<Duration>(&long)).contains("is longer than 292 years"));
    assert!(refusal(stored_value::<Date>(&jiff::civil::date(-44, 3, 15))).contains("lies before the year 0"));
}

#[test]
fn what_is_no_value_of_its_type_says_so() {
    assert_eq!(
        refusal(u8::load(ValueRef::Integer(256))),
        "256 does not fit u8 (0 to 255) | Declare the field with a wider type, or correct what is stored"
    );
    assert_eq!(refusal(bool::load(ValueRef::Integer(2))), "2 is neither 0 (false) nor 1 (true)");
    assert_eq!(refusal(String::load(ValueRef::Integer(7))), "7 is a whole number, not text");
    assert_eq!(refusal(i32::load(ValueRef::Missing)), "nothing is there, where a whole number (i32) must be");
    assert_eq!(
        refusal(String::load(ValueRef::BrokenText(&[0xff]))),
        "not UTF-8: <1 byte: ff> is text that is not UTF-8, not text"
    );
    assert_eq!(refusal(Date::load(ValueRef::Text("yesterday"))), "\"yesterday\" is not a date (2025-03-08)");
    assert!(refusal(Duration::load(ValueRef::Integer(-5))).contains("-5 ns is below zero"));
    assert!(
        refusal(Json::<Vec<u8>>::load(ValueRef::Text("[1, 256]"))).contains("cannot be read as alloc::vec::Vec<u8>")
    );
}

#[test]
fn a_type_of_ones_own_checks_what_it_reads() {
    #[derive(Debug, PartialEq)]
    struct Even(i32);
    impl StoredAs for Even {
        type Stored = i32;
        fn to_stored(&self) -> i32 {
            self.0
        }
        fn from_stored(number: i32) -> Result<Even, String> {
            if number % 2 == 0 { Ok(Even(number)) } else { Err("is odd".into()) }
        }
    }
    assert_eq!(Even::load(ValueRef::Integer(4)).unwrap(), Even(4));
    assert_eq!(Option::<Even>::load(ValueRef::Missing).unwrap(), None);
    assert_eq!(refusal(Even::load(ValueRef::Integer(5))), "5 is odd");
}

#[test]
fn outside_files_stay_below_their_folder() {
    assert_eq!(OutsideFile::new("./photos//bowl.jpg").unwrap().as_str(), "photos/bowl.jpg");
    for (place, why) in [("", "names no file"), ("/etc/passwd", "absolute"), ("a/../../b", "leaves its folder")] {
        assert!(refusal(OutsideFile::new(place)).contains(why), "{place}");
    }
    assert!(OutsideFile::load(ValueRef::Text("../x")).is_err());
}

#[test]
fn keys_of_one_type_compare_and_nest_in_json() {
    struct Piece;
    let (one, two) = (Key::<Piece>::from_number(1), Key::<Piece>::from_number(2));
    assert!(one < two && one != two);
    assert_eq!(serde_json::to_string(&[one, two]).unwrap(), "[1,2]");
    let back: Vec<Key<Piece>> = serde_json::from_str("[1,2]").unwrap();
    assert!(back == [one, two]);
}
