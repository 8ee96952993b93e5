//! Values as a person reads them.

use velvet_core::ValueRef::{Bytes, Integer, Missing, Real, Text};
use velvet_core::exchange::show::{Tone, shown};
use velvet_core::schema::structure::Kind;

#[track_caller]
fn shows(value: velvet_core::ValueRef<'_>, kind: Option<Kind>, expected: &str) {
    assert_eq!(shown(value, kind.as_ref()).text, expected);
}

#[test]
fn missing_and_empty_look_different_from_each_other_and_from_text() {
    let (missing, empty, dash) = (shown(Missing, None), shown(Text(""), None), shown(Text("–"), None));
    assert_eq!([&missing.text, &empty.text, &dash.text], ["–", "\"\"", "\"–\""]);
    assert_eq!((missing.tone, empty.tone, dash.tone), (Tone::Sign, Tone::Sign, Tone::Plain));
}

#[test]
fn nothing_in_a_value_acts_on_the_terminal() {
    shows(Text("two\nlines\tand \u{1b}[31mred"), None, "two\\nlines\\tand \\u{1b}[31mred");
    shows(Text("right\u{202e}to left"), None, "right\\u{202e}to left");
    shows(Text(" edges "), None, "\" edges \"");
}

#[test]
fn values_are_read_by_what_their_column_holds() {
    shows(Integer(1), Some(Kind::Bool), "true");
    shows(Integer(2), Some(Kind::Bool), "2");
    shows(Integer(5_400_000_000_000), Some(Kind::Duration), "1h 30m");
    shows(Text("2025-03-08T14:30:00.000000000Z"), Some(Kind::Timestamp), "2025-03-08 14:30:00Z");
    shows(Text("2025-03-08T14:30:00.250000000"), Some(Kind::DateTime), "2025-03-08 14:30:00.25");
    shows(Text("2025-03-08T14:30:00.000000000Z"), None, "2025-03-08T14:30:00.000000000Z");
    shows(Real(f64::from(0.1_f32)), Some(Kind::F32), "0.1");
}

#[test]
fn bytes_show_how_many_there_are_and_how_they_begin() {
    shows(Bytes(&[]), None, "<no bytes>");
    shows(Bytes(&[0xab]), None, "<1 byte: ab>");
    shows(Bytes(&[7; 20]), None, "<20 bytes: 07 07 07 07 07 07 07 07 07 07 07 07 …>");
}
