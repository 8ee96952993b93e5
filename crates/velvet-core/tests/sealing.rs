//! Sealing against the test vectors of the docs, which other languages are checked against too.

use velvet_core::sealing::{ColumnSeal, Plain, SecretKey, key_number};
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
        let (file_id, label, row) = (bytes(2).try_into().unwrap(), cells[3], cells[4].parse().unwrap());
        let (nonce, sealed) = (bytes(5).try_into().unwrap(), bytes(7));
        let number = key_number(&sealed).unwrap();
        let seal = ColumnSeal::new(&key, number, &file_id, label);
        let plain = seal.open(&sealed, row).unwrap();
        assert_eq!(seal.seal(&plain, row, nonce), sealed);
        let shown = match Plain::read(&plain).unwrap() {
            ValueRef::Text(text) => format!("'{text}'"),
            ValueRef::Bytes(bytes) => format!("'{}'", bytes.iter().map(|b| format!("{b:02x}")).collect::<String>()),
            ValueRef::Integer(number) => number.to_string(),
            other => other.to_value().literal(),
        };
        assert_eq!(shown, cells[6]);
        assert_eq!(seal.open(&sealed, row - 1), None, "another row");
        assert_eq!(ColumnSeal::new(&key, number, &file_id, "client.other").open(&sealed, row), None, "another column");
        assert_eq!(ColumnSeal::new(&key, number, &[0; 16], label).open(&sealed, row), None, "another file");
        assert_eq!(ColumnSeal::new(&key, number + 1, &file_id, label).open(&sealed, row), None, "another number");
        count += 1;
    }
    assert_eq!(count, 6);
    assert_eq!(format!("{:?}", SecretKey::from_bytes([7; 32])), "SecretKey(…)");
}

#[test]
fn every_value_comes_back_and_says_little_of_its_length() {
    let seal = ColumnSeal::new(&SecretKey::from_bytes([1; 32]), 1, &[2; 16], "a.b");
    let texts = (0..200).map(|n| Value::Text("\u{80}\0".repeat(n))).collect::<Vec<_>>();
    let mut lengths = std::collections::BTreeSet::new();
    for value in [Value::Integer(i64::MIN), Value::Real(-0.0), Value::Bytes(vec![0x80, 0, 0]), Value::Bytes(Vec::new())]
        .iter()
        .chain(&texts)
    {
        let sealed = seal.seal(&Plain::of(value.as_ref()).unwrap(), 7, [3; 24]);
        lengths.insert(sealed.len());
        assert_eq!(Plain::read(&seal.open(&sealed, 7).unwrap()).unwrap().to_value(), *value);
    }
    assert!(lengths.into_iter().all(|length| (length - 29 - 16) % 32 == 0));
    assert_eq!(Plain::of(ValueRef::Missing), None);
}
