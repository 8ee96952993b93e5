//! Named values that are sealed are bound to their names.

use super::*;

/// Named values that come to be sealed, get other names by hand, become other records and named values again, and stop to be sealed.
mod tokens {
    pub(crate) mod one {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(named)]
        pub(crate) struct Token {
            pub(crate) name: String,
            pub(crate) value: String,
        }
    }
    pub(crate) mod two {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(named)]
        pub(crate) struct Token {
            pub(crate) name: String,
            #[record(sealed)]
            pub(crate) value: String,
        }
    }
    pub(crate) mod three {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(name = "pass", was = "token")]
        pub(crate) struct Token {
            #[record(own_key)]
            pub(crate) name: String,
            #[record(sealed = "token.value")]
            pub(crate) value: String,
            pub(crate) note: Option<String>,
        }
    }
    pub(crate) mod four {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(named, name = "pass")]
        pub(crate) struct Token {
            #[record(ignore_case)]
            pub(crate) name: String,
            #[record(sealed = "token.value")]
            pub(crate) value: String,
        }
    }
    pub(crate) mod five {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(named, name = "pass")]
        pub(crate) struct Token {
            #[record(ignore_case)]
            pub(crate) name: String,
            pub(crate) value: String,
        }
    }
}

/// The histories up to each version of [`tokens`].
fn histories_of_tokens() -> [&'static str; 5] {
    use tokens::{five, four, one, three, two};
    let tables = [
        (one::Token::table().unwrap(), ("token", one::Token::HINTS)),
        (two::Token::table().unwrap(), ("token", two::Token::HINTS)),
        (three::Token::table().unwrap(), ("pass", three::Token::HINTS)),
        (four::Token::table().unwrap(), ("pass", four::Token::HINTS)),
        (five::Token::table().unwrap(), ("pass", five::Token::HINTS)),
    ];
    let structure = |at: usize| Structure { tables: vec![tables[at].0.clone()] };
    let mut history = History::start("guests", &structure(0));
    std::array::from_fn(|at| {
        if at > 0 {
            let mut drafted = draft(&structure(at - 1), &structure(at), &[tables[at].1], &[], &[]);
            assert_eq!(drafted.questions, [""; 0]);
            if let (3, Step::ChangeColumn { fill, .. }) = (at, &mut drafted.changes[0]) {
                *fill = Some("name || '!'".into());
            }
            let by_hand = |statement: &str| Step::Statement { statement: statement.into() };
            match at {
                2 => drafted.changes.push(by_hand("UPDATE pass SET name = 'the ' || name")),
                4 => drafted.changes.insert(0, by_hand("UPDATE pass SET name = name || '?'")),
                _ => {}
            }
            history = history.recorded(&structure(at), drafted, &[]);
            if at == 3 {
                // A version of which only the names are other ones.
                history.versions[0].released = true;
                let mut drafted = draft(&structure(at), &structure(at), &[], &[], &[]);
                drafted.changes.push(by_hand("UPDATE pass SET name = upper(name) WHERE key <> 2"));
                history = history.recorded(&structure(at), drafted, &[]);
            }
        }
        history.versions[0].released = true;
        versions::leaked(&history)
    })
}

/// The form of each value of a column.
fn forms(path: &Path, table: &str) -> Vec<u8> {
    let other = other_program(path);
    let mut statement = other.prepare(&format!("SELECT value FROM {table} ORDER BY key")).unwrap();
    statement.query_map([], |row| Ok(row.get::<_, Vec<u8>>(0)?[0])).unwrap().map(Result::unwrap).collect()
}

#[test]
fn a_sealed_named_value_opens_under_its_name_only_and_follows_every_rename_of_the_apps() {
    let (_folder, path) = folder();
    let keys = Store::default();
    keys.state.store(OTHERS, Relaxed);
    let open = || Drawer::options().keys(keys.clone()).open(&path, schema()).unwrap();
    let swap = |table: &str, column: &str, a: &str, b: &str| {
        let text = format!(
            "UPDATE {table} SET {column} = '{a}~' WHERE {column} = '{a}'; UPDATE {table} SET {column} = '{a}' WHERE {column} = '{b}';
             UPDATE {table} SET {column} = '{b}' WHERE {column} = '{a}~'"
        );
        other_program(&path).execute_batch(&text).unwrap();
    };
    let drawer = open();
    let tokens = drawer.named::<Token>();
    tokens.set("courier", "the courier's".into()).unwrap();
    tokens.merge([("post", "the post's".into()), ("till", "the till's".into())]).unwrap();
    swap("token", "name", "courier", "post");
    for name in ["courier", "post"] {
        let error = tokens.get(name).unwrap_err();
        assert!(error.is_unreadable() && error.to_string().contains("belongs to another name, record"), "{error}");
        assert!(tokens.change(name, |value| value.clear()).unwrap_err().is_unreadable());
        let renamed = tokens.records().filter(|t| t.name.is(name)).update(|t| t.name.set("other"));
        assert!(renamed.unwrap_err().is_unreadable(), "what does not open is not sealed for another name");
    }
    assert_eq!(tokens.get_all(["till"]).unwrap(), [Some("the till's".into())]);
    swap("token", "name", "courier", "post");

    // Whatever of ours renames seals again.
    let key = tokens.records().filter(|t| t.name.is("courier")).first().unwrap().unwrap().key();
    drawer.change(key, |t| t.name = "a".into()).unwrap();
    drawer.change(key, |t| (t.name, t.value) = ("b".into(), "two".into())).unwrap();
    assert_eq!(tokens.get("b").unwrap().as_deref(), Some("two"));
    let one = || tokens.records().filter(|t| t.name.is_not("post") & t.name.is_not("till"));
    for (n, expected) in [(1, "two"), (2, "three"), (3, "four")] {
        let name = format!("n{n}");
        let written = match n {
            1 => one().update(|t| t.name.set(&name)),
            2 => one().update(|t| (t.value.set("three"), t.name.set(&name))),
            _ => one().update(|t| (t.name.set(&name), t.value.set("four"))),
        };
        assert_eq!((written.unwrap(), tokens.get(&name).unwrap().as_deref()), (1, Some(expected)));
    }
    let mut edit = drawer.get(key).unwrap().unwrap().edit();
    edit.name = "it's \"e\"\0'".into();
    drawer.save(edit).unwrap();
    assert_eq!(tokens.get("it's \"e\"\0'").unwrap().as_deref(), Some("four"));
    drawer.replace(key, Token { name: "courier".into(), value: "five".into() }).unwrap();
    let refused = drawer.write(|tx| tx.sql("UPDATE token SET name = 'x' WHERE name = 'post'").run()).unwrap_err();
    assert!(refused.to_string().contains("`token.name`, the name that sealed values are bound to"), "{refused}");
    drawer.write(|tx| tx.sql("UPDATE token SET value = value").run()).unwrap();
    assert_eq!(tokens.get_all(["courier", "post", "till"]).unwrap().iter().flatten().count(), 3);
    assert_eq!(forms(&path, "token"), [2; 3]);

    // What was sealed before names were bound is read, and bound once it is written or gets a new key.
    let file_id: Vec<u8> =
        other_program(&path).query_row("SELECT file_id FROM velvet_sealing", [], |row| row.get(0)).unwrap();
    let seal = ColumnSeal::new(&SecretKey::from_bytes([9; 32]), 1, &file_id.try_into().unwrap(), "token.value");
    for (row, value) in [(1, "older"), (2, "old"), (3, "oldest")] {
        let place = SealedPlace { row, name: None };
        let sealed = seal.seal(&Plain::of(Value::Text(value.into()).as_ref()).unwrap(), place, [row as u8; 24]);
        other_program(&path).execute("UPDATE token SET value = ?1 WHERE key = ?2", (sealed, row)).unwrap();
    }
    assert_eq!(
        tokens.get_all(["courier", "post", "till"]).unwrap(),
        ["older", "old", "oldest"].map(|v| Some(v.into()))
    );
    tokens.set("courier", "new".into()).unwrap();
    assert_eq!(forms(&path, "token"), [2, 1, 1]);
    drawer.renew_key().unwrap();
    assert_eq!(forms(&path, "token"), [2; 3]);
    assert_eq!(tokens.get_all(["courier", "post", "till"]).unwrap(), ["new", "old", "oldest"].map(|v| Some(v.into())));
    drawer.close().unwrap();

    let python = Command::new("python3")
        .arg(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/unseal.py"))
        .args(["file", path.to_str().unwrap(), &"09".repeat(32), "token", "value", "token.value", "name"])
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&python.stdout), "1 new\n2 old\n3 oldest\n", "{python:?}");
}

#[test]
fn upgrades_take_sealed_named_values_along_whatever_becomes_of_their_names() {
    use tokens::{five, four, one, three, two};
    let histories = histories_of_tokens();
    let (names, values) = (["a", "b", "c's"], [WORD, "", "2"]);
    macro_rules! at {
        ($version:ident, $at:expr, $keys:expr, $path:expr) => {
            Drawer::options().keys($keys.clone()).open($path, at_version::<$version::Token>(histories[$at]))
        };
    }
    // From each version to each later one.
    for from in 0..4 {
        for to in from + 1..5 {
            let (_folder, path) = folder();
            let keys = KeysInMemory::default();
            let pairs = || names.iter().zip(values).map(|(name, value)| ((*name).to_owned(), value.to_owned()));
            match from {
                0 => at!(one, 0, keys, &path)
                    .unwrap()
                    .insert_all(pairs().map(|(name, value)| one::Token { name, value }))
                    .map(drop),
                1 => at!(two, 1, keys, &path)
                    .unwrap()
                    .insert_all(pairs().map(|(name, value)| two::Token { name, value }))
                    .map(drop),
                2 => {
                    let three = at!(three, 2, keys, &path).unwrap();
                    let token = |(name, value)| three::Token { name: format!("the {name}"), value, note: None };
                    three.insert_all(pairs().map(token)).map(drop)
                }
                _ => {
                    let token = |(name, value)| four::Token { name: format!("the {name}!"), value };
                    at!(four, 3, keys, &path).unwrap().insert_all(pairs().map(token)).map(drop)
                }
            }
            .unwrap();
            let read: Vec<(String, String)> = match to {
                1 => at!(two, 1, keys, &path).unwrap().records::<two::Token>().only(|t| (t.name, t.value)).collect(),
                2 => {
                    at!(three, 2, keys, &path).unwrap().records::<three::Token>().only(|t| (t.name, t.value)).collect()
                }
                3 => at!(four, 3, keys, &path).unwrap().records::<four::Token>().only(|t| (t.name, t.value)).collect(),
                _ => at!(five, 4, keys, &path).unwrap().records::<five::Token>().only(|t| (t.name, t.value)).collect(),
            }
            .unwrap();
            let named = |name: String| match to {
                1 => name,
                2 => format!("the {name}"),
                _ if name != "b" && from < 3 => format!("THE {}!{}", name.to_uppercase(), &"?"[..to - 3]),
                _ => format!("the {name}!{}", &"?"[..to - 3]),
            };
            assert!(
                read.iter().cloned().eq(pairs().map(|(name, value)| (named(name), value))),
                "{from} to {to}: {read:?}"
            );
            let expected = match to {
                1 | 3 => [2; 3],
                2 => [1; 3],
                _ => continue,
            };
            assert_eq!(forms(&path, if to == 1 { "token" } else { "pass" }), expected, "{from} to {to}");
        }
    }
    // Nothing is sealed at the end, so no key is needed but for what is sealed at the beginning.
    let (_folder, path) = folder();
    let value = |name: &str, value: &str| one::Token { name: name.into(), value: value.into() };
    Drawer::open(&path, at_version::<one::Token>(histories[0])).unwrap().insert(value("a", WORD)).unwrap();
    let last = || Drawer::open(&path, at_version::<five::Token>(histories[4]));
    assert_eq!(last().unwrap().named::<five::Token>().get("the A!?").unwrap().as_deref(), Some(WORD));
    std::fs::remove_file(&path).unwrap();
    let two = at!(two, 1, KeysInMemory::default(), &path).unwrap();
    two.named::<two::Token>().set("a", WORD.into()).unwrap();
    two.close().unwrap();
    assert!(last().unwrap_err().is_key_missing());
    testing::every_version_upgrades(&at_version::<five::Token>(histories[4]));
}
