//! Sealing against the test vectors of the docs, which other languages are checked against too.

use velvet_core::sealing::{ColumnSeal, Plain, SealedPlace, SecretKey, key_number};
use velvet_core::{Value, ValueRef};

fn read_hex(text: &str) -> Vec<u8> {
    (0..text.len() / 2).map(|at| u8::from_str_radix(&text[2 * at..2 * at + 2], 16).unwrap()).collect()
}

#[test]
fn the_vectors_of_the_docs_are_what_is_sealed_and_open_nowhere_else() {
    let docs = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/secrecy.md")).unwrap();
    let rows = docs.lines().filter(|line| line.starts_with("| `00"));
    let mut count = 0;
    for row in rows {
        let cells: Vec<&str> = row.split('|').map(|cell| cell.trim().trim_matches('`')).collect();
        let bytes = |at: usize| read_hex(cells[at]);
        let key = SecretKey::from_bytes(bytes(1).try_into().unwrap());
        let (file_id, label, row) = (bytes(2).try_into().unwrap(), cells[3], cells[4].parse::<i64>().unwrap());
        let (nonce, sealed) = (bytes(6).try_into().unwrap(), bytes(8));
        let name = match (cells[5].strip_prefix('\''), cells[5].parse::<i64>()) {
            (Some(text), _) => Plain::of(ValueRef::Text(text.trim_end_matches('\''))),
            (None, number) => number.ok().and_then(|number| Plain::of(ValueRef::Integer(number))),
        };
        let (other, name) = (Plain::of(ValueRef::Text("other")), name.as_deref());
        let place = SealedPlace { row, name };
        let number = key_number(&sealed).unwrap();
        let seal = ColumnSeal::new(&key, number, &file_id, label);
        let plain = seal.open(&sealed, place).unwrap();
        assert_eq!(seal.seal(&plain, place, nonce), sealed);
        let shown = match Plain::read(&plain).unwrap() {
            ValueRef::Text(text) => format!("'{text}'"),
            ValueRef::Bytes(bytes) => format!("'{}'", bytes.iter().map(|b| format!("{b:02x}")).collect::<String>()),
            ValueRef::Integer(number) => number.to_string(),
            other => other.to_value().literal(),
        };
        assert_eq!(shown, cells[7]);
        assert_eq!(seal.open(&sealed, SealedPlace { row: row - 1, name }), None, "another row");
        let elsewhere = seal.open(&sealed, SealedPlace { row, name: other.as_deref() });
        assert_eq!(elsewhere.is_some(), name.is_none(), "another name; what has none opens under any");
        let relabelled = [&[3 - sealed[0]], &sealed[1..]].concat();
        assert_eq!(seal.open(&relabelled, place), None, "another form");
        assert_eq!(
            ColumnSeal::new(&key, number, &file_id, "client.other").open(&sealed, place),
            None,
            "another column"
        );
        assert_eq!(ColumnSeal::new(&key, number, &[0; 16], label).open(&sealed, place), None, "another file");
        assert_eq!(ColumnSeal::new(&key, number + 1, &file_id, label).open(&sealed, place), None, "another number");
        count += 1;
    }
    assert_eq!(count, 8);
    assert_eq!(format!("{:?}", SecretKey::from_bytes([7; 32])), "SecretKey(…)");
}

#[test]
fn every_value_comes_back_and_says_little_of_its_length() {
    let seal = ColumnSeal::new(&SecretKey::from_bytes([1; 32]), 1, &[2; 16], "a.b");
    let place = SealedPlace { row: 7, name: None };
    let texts = (0..200).map(|n| Value::Text("\u{80}\0".repeat(n))).collect::<Vec<_>>();
    let mut lengths = std::collections::BTreeSet::new();
    for value in [Value::Integer(i64::MIN), Value::Real(-0.0), Value::Bytes(vec![0x80, 0, 0]), Value::Bytes(Vec::new())]
        .iter()
        .chain(&texts)
    {
        let sealed = seal.seal(&Plain::of(value.as_ref()).unwrap(), place, [3; 24]);
        lengths.insert(sealed.len());
        assert_eq!(Plain::read(&seal.open(&sealed, place).unwrap()).unwrap().to_value(), *value);
    }
    assert!(lengths.into_iter().all(|length| (length - 29 - 16) % 32 == 0));
    assert_eq!(Plain::of(ValueRef::Missing), None);
}
