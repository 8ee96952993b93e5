//! Values and statements that are exchanged come back as they were.

use proptest::prelude::*;
use velvet_core::Value;
use velvet_core::exchange::sql_text::statements;
use velvet_core::exchange::{of_field, of_json, to_field, to_json};
use velvet_core::schema::structure::Kind;

fn values() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Missing),
        any::<i64>().prop_map(Value::Integer),
        any::<f64>().prop_filter("a file keeps no NaN", |x| !x.is_nan()).prop_map(Value::Real),
        any::<String>().prop_map(Value::Text),
        "[\\[{ ]{0,2}(null|\"a\"|1.50|-0|\n|,|:|\"bytes\":\"00\"){0,4}[\\]} ]{0,2}".prop_map(Value::Text),
        "[-+.0-9eEinfNx\\\\]{0,6}".prop_map(Value::Text),
        // Nested values over several lines, as other programs write them.
        prop::sample::select(vec!["[\n1]", "{\"a\":\r1}", "[1,\r\n2]"]).prop_map(|text| Value::Text(text.into())),
        proptest::collection::vec(any::<u8>(), 0..9).prop_map(Value::Bytes),
    ]
}

/// A statement, with what could be mistaken for the end of one inside.
fn a_statement() -> impl Strategy<Value = String> {
    let inside = prop_oneof![
        Just("'it''s; '".to_owned()),
        Just("\"a;b\"".to_owned()),
        Just("[c;d]".to_owned()),
        Just("`e;f`".to_owned()),
        Just("/* ; */".to_owned()),
        Just("-- ; '\n".to_owned()),
        Just("case when 1 then 2 end".to_owned()),
        "[a-zö0-9_(),=. \n]{0,8}",
    ];
    (proptest::collection::vec(inside, 0..6), any::<bool>()).prop_map(|(parts, is_trigger)| {
        let parts = parts.join(" ");
        if is_trigger {
            format!("CREATE TEMP TRIGGER x AFTER INSERT ON t BEGIN SELECT {parts}; DELETE FROM t; END")
        } else {
            // What is no statement at all is not passed over.
            format!("{} {parts} x", if parts.is_empty() { "{\"no\":1}" } else { "SELECT" })
        }
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 512, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_value_comes_back_from_json(value in values()) {
        let nested = matches!(value, Value::Missing | Value::Text(_)).then_some(&Kind::Json);
        for kind in [None, nested] {
            let text = to_json(value.as_ref(), kind);
            prop_assert!(serde_json::from_str::<serde_json::Value>(&text).is_ok() && !text.contains(['\n', '\r']), "{}", text);
            prop_assert_eq!(of_json(&text, kind).unwrap().literal(), value.literal());
        }
    }

    #[test]
    fn a_value_comes_back_from_a_field(value in values(), holds_text: bool) {
        // In a column that holds text the file has no numbers.
        prop_assume!(!holds_text || !matches!(value, Value::Integer(_) | Value::Real(_)));
        let field = to_field(value.as_ref(), holds_text);
        prop_assert_eq!(of_field(&field, holds_text).unwrap().literal(), value.literal());
    }

    #[test]
    fn no_field_and_no_json_makes_a_panic(text: String) {
        let _ = of_field(&text, false);
        let _ = (of_json(&text, None), of_json(&text, Some(&Kind::Json)));
        let _ = statements(&text);
    }

    #[test]
    fn statements_are_told_apart(all in proptest::collection::vec(a_statement(), 0..5)) {
        let text: String = all.iter().map(|s| format!("{s} ;\n-- a comment; of its own\n")).collect();
        let found = statements(&text);
        prop_assert_eq!(found.iter().map(|(_, s)| *s).collect::<Vec<_>>(), all.iter().map(|s| s.trim()).collect::<Vec<_>>());
        for (line, statement) in found {
            prop_assert!(text.lines().nth(line - 1).unwrap().starts_with(statement.lines().next().unwrap().trim_end()));
        }
    }
}

#[test]
fn what_stands_for_no_value_is_said() {
    for (json, said) in [
        ("[1]", "[1] is no value of a column"),
        ("{\"a\":1}", "is no value of a column"),
        ("{\"bytes\":\"0g\"}", "`bytes` are not hexadecimal digits"),
        ("18446744073709551615", "18446744073709551615 is above the largest whole number of the file"),
    ] {
        let why = of_json(json, None).unwrap_err().to_string();
        assert!(why.contains(said), "{why}");
    }
    assert_eq!(of_json("true", Some(&Kind::Bool)), Ok(Value::Integer(1)));
    assert!(of_field("\\xabc", true).unwrap_err().to_string().contains("hexadecimal"));
}
