//! Finding by words: what is found, how it is marked, and that the index hears of every write.

use crate::common;
use common::{folder, other_program};
use proptest::prelude::*;
use std::collections::BTreeSet;
use velvet_drawer::{Drawer, Error, Key, Record, Schema};

#[derive(Record, Clone, Debug, PartialEq)]
struct Glaze {
    #[record(own_key, searchable(weight = 5))]
    name: String,
    #[record(searchable)]
    notes: Option<String>,
    cone: u32,
}

#[derive(Record, Clone, Debug, PartialEq)]
struct Tile {
    glaze: Key<Glaze>,
    celsius: u32,
}

fn schema() -> Schema {
    Schema::new("glazes").record::<Glaze>()
}

fn memory() -> Drawer {
    Drawer::in_memory(schema()).unwrap()
}

fn glaze(name: &str, notes: &str) -> Glaze {
    Glaze { name: name.into(), notes: Some(notes.into()), cone: 6 }
}

/// A word without what makes no difference.
fn plain(text: &str) -> String {
    text.to_lowercase()
        .chars()
        .map(|c| {
            if c == 'é' {
                'e'
            } else if c == 'ö' {
                'o'
            } else {
                c
            }
        })
        .collect()
}

fn words(text: &str) -> Vec<String> {
    plain(text).split(|c: char| !c.is_alphanumeric()).filter(|w| !w.is_empty()).map(str::to_owned).collect()
}

/// What is looked for in place of the words: those joined by a hyphen as one, or its parts.
fn any_form(text: &str) -> Vec<Vec<Vec<String>>> {
    let forms = |joined: &str| match words(joined) {
        parts if parts.len() > 1 => vec![vec![parts.concat()], parts],
        parts => vec![parts],
    };
    text.split(' ').filter(|w| w.contains(char::is_alphanumeric)).map(forms).collect()
}

/// Whether all words are in one of the record's texts, the last one as the beginning of a word.
fn is_found(glaze: &Glaze, typed: &str) -> bool {
    let texts: Vec<String> = [glaze.name.as_str(), glaze.notes.as_deref().unwrap_or_default()]
        .iter()
        .flat_map(|t| any_form(t))
        .flatten()
        .flatten()
        .collect();
    let wanted = any_form(typed);
    let open = typed.ends_with(char::is_alphanumeric);
    let has = |(n, forms): (usize, &Vec<Vec<String>>)| {
        forms.iter().any(|form| {
            form.iter().enumerate().all(|(m, word)| {
                let is_last = open && n + 1 == wanted.len() && m + 1 == form.len();
                texts.iter().any(|t| t == word || (is_last && t.starts_with(word.as_str())))
            })
        })
    };
    !wanted.is_empty() && wanted.iter().enumerate().all(has)
}

fn found(drawer: &Drawer, typed: &str) -> BTreeSet<Key<Glaze>> {
    let hits = drawer.records::<Glaze>().search(typed).collect().unwrap();
    assert_eq!(hits.len() as u64, drawer.records::<Glaze>().search(typed).count().unwrap());
    hits.iter().map(|hit| hit.key()).collect()
}

fn sound(drawer: &Drawer) -> bool {
    drawer.search_index_is_sound::<Glaze>().unwrap()
}

#[derive(Clone, Debug)]
enum Write {
    Insert(String, Option<String>),
    InsertAll(Vec<String>),
    Replace(usize, String),
    Change(usize, String),
    Remove(usize),
    UpdateAll(String),
    GivenUp(String),
}

fn text() -> impl Strategy<Value = String> {
    prop::collection::vec(prop_oneof!["[abé]{1,3}", "[ABö]{1,2}[0-9]?", "[ab]-[ab]", Just("-".to_owned())], 0..5)
        .prop_map(|w| w.join(" "))
}

fn write() -> impl Strategy<Value = Write> {
    prop_oneof![
        (text(), prop::option::of(text())).prop_map(|(name, notes)| Write::Insert(name, notes)),
        prop::collection::vec(text(), 0..8).prop_map(Write::InsertAll),
        (any::<usize>(), text()).prop_map(|(at, notes)| Write::Replace(at, notes)),
        (any::<usize>(), text()).prop_map(|(at, name)| Write::Change(at, name)),
        any::<usize>().prop_map(Write::Remove),
        text().prop_map(Write::UpdateAll),
        text().prop_map(Write::GivenUp),
    ]
}

fn run(drawer: &Drawer, write: Write) {
    let all = drawer.records::<Glaze>().collect().unwrap();
    let at = |n: usize| all.get(n % all.len().max(1));
    // Names are unique, so some of these are refused, in the middle too.
    let _ = match write {
        Write::Insert(name, notes) => drawer.insert(Glaze { name, notes, cone: 6 }).map(drop),
        Write::InsertAll(names) => drawer.insert_all(names.iter().map(|n| glaze(n, "in a row"))).map(drop),
        Write::Replace(n, notes) => {
            at(n).map_or(Ok(()), |g| drawer.insert_or_replace(glaze(&g.name, &notes)).map(drop))
        }
        Write::Change(n, name) => at(n).map_or(Ok(()), |g| drawer.change(g.key(), |g| g.name = name).map(drop)),
        Write::Remove(n) => at(n).map_or(Ok(()), |g| drawer.remove(g.key()).map(drop)),
        Write::UpdateAll(notes) => drawer.records::<Glaze>().update(|g| g.notes.set(&notes)).map(drop),
        Write::GivenUp(name) => drawer.write(|tx| {
            // A part that fails in the middle is rolled back; what was written before and after it is kept or not as a whole.
            let _ = tx.part(|tx| tx.insert_all([glaze(&name, "part"), glaze(&name, "part")]));
            let _ = tx.insert_all([glaze("twice", "a"), glaze("twice", "b")]);
            if name.len() % 2 == 0 { Ok(()) } else { Err(Error::own("given up")) }
        }),
    };
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 128, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn the_index_hears_of_every_write(writes in prop::collection::vec(write(), 1..12), typed in prop::collection::vec(text(), 4)) {
        let drawer = memory();
        for write in writes {
            run(&drawer, write.clone());
            prop_assert!(sound(&drawer), "{write:?}");
        }
        let all = drawer.records::<Glaze>().collect().unwrap();
        for typed in &typed {
            let expected: BTreeSet<_> = all.iter().filter(|g| is_found(g, typed)).map(|g| g.key()).collect();
            prop_assert_eq!(found(&drawer, typed), expected, "{}", typed);
        }
    }

    #[test]
    fn nothing_that_is_typed_is_an_error(typed in "\\PC{0,12}|[\\x00-\\x7f]{0,8}|(AND|OR|NOT|NEAR|\"|\\*|\\^|:|\\(|-| |name){0,6}") {
        let drawer = memory();
        drawer.insert(glaze("name", "and or not near")).unwrap();
        prop_assert!(drawer.records::<Glaze>().search(&typed).collect().is_ok());
        prop_assert!(drawer.records::<Glaze>().search(&typed).count().is_ok());
    }
}

#[test]
fn the_best_come_first_and_say_what_matched() {
    let drawer = memory();
    let long = "word ".repeat(60) + "Tenmoku " + &"more ".repeat(60);
    drawer.insert_all([glaze("Shino", &long), glaze("Tenmoku", "dark"), glaze("Ash over tenmoku", "runs")]).unwrap();
    let hits = drawer.records::<Glaze>().search("tenmoku").collect().unwrap();
    assert_eq!(hits.iter().map(|h| h.name.as_str()).collect::<Vec<_>>(), ["Tenmoku", "Ash over tenmoku", "Shino"]);
    assert_eq!(hits[1].marked().to_string(), "Ash over [tenmoku]");
    let twice = drawer.records::<Glaze>().search("tenmoku ten").first().unwrap().unwrap();
    assert_eq!(twice.marked().to_string(), "[Tenmoku]", "what is found twice is marked once");
    drawer.insert(glaze("Raku", "raku")).unwrap();
    let of_two = drawer.records::<Glaze>().search("raku").first().unwrap().unwrap();
    assert_eq!(of_two.marked().to_string(), "[Raku]", "of two texts with as much, the first");
    let part = hits[2].marked();
    assert!(part.text().chars().count() < 120 && part.text().starts_with('…'), "{part}");
    assert_eq!(part.parts().find(|(_, matches)| *matches).unwrap().0, "Tenmoku");

    let all = || drawer.records::<Glaze>();
    let names = |search: velvet_drawer::Search<Glaze>| {
        search.collect().unwrap().iter().map(|h| h.name.clone()).collect::<Vec<_>>()
    };
    assert_eq!(names(all().filter(|g| g.notes.is("dark")).search("ten")), ["Tenmoku"]);
    assert_eq!(names(all().search("ten").limit(1).offset(1)), ["Ash over tenmoku"]);
    assert_eq!(names(all().sort_by(|g| g.name.ascending()).search("ten").limit(2)), ["Ash over tenmoku", "Shino"]);
    assert_eq!(all().search("ten").first().unwrap().unwrap().name, "Tenmoku");
    assert_eq!(all().search("ten ").count().unwrap(), 0, "a finished word does not go on");
    assert_eq!((names(all().search("")), all().search(" \"* ").first().unwrap()), (Vec::new(), None));
    let in_tx = drawer.write(|tx| {
        tx.insert(glaze("Tenmoku, thin", ""))?;
        tx.records::<Glaze>().search("tenmoku thi").count()
    });
    assert_eq!(in_tx.unwrap(), 1);
    assert_eq!(drawer.read(|view| view.records::<Glaze>().search("thin").count()).unwrap(), 1);
    let explained = all().search("ten").explain().unwrap();
    assert!(explained.steps.iter().any(|s| s.contains("VIRTUAL TABLE INDEX")), "{explained}");
}

#[test]
fn what_belongs_to_the_records_that_are_found_comes_with_them() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema().record::<Tile>()).unwrap();
    let glazes = [glaze("Ash over tenmoku", "runs"), glaze("Tenmoku", "dark"), glaze("Shino", "")];
    let glazes: Vec<Key<Glaze>> = drawer.insert_all(glazes).unwrap().iter().map(|g| g.key()).collect();
    let tiles = [(1, 1220), (0, 1240), (1, 1280), (2, 1300), (1, 1260)];
    drawer.insert_all(tiles.map(|(n, celsius)| Tile { glaze: glazes[n], celsius })).unwrap();
    // The index is told of this first.
    other_program(&path).execute("UPDATE glaze SET notes = 'tenmoku' WHERE name = 'Shino'", []).unwrap();
    let search = |typed: &str| {
        drawer.records::<Glaze>().search(typed).with(|g| {
            (
                g.linked_from::<Tile>(|t| t.glaze).sort_by(|t| t.celsius.descending()).limit(2),
                g.linked_from::<Tile>(|t| t.glaze).count(),
            )
        })
    };
    let found = search("tenm").collect().unwrap();
    let in_words = found.iter().map(|(hit, (tiles, all))| {
        (hit.name.as_str(), hit.marked().to_string(), tiles.iter().map(|t| t.celsius).collect::<Vec<_>>(), *all)
    });
    assert_eq!(
        in_words.collect::<Vec<_>>(),
        [
            ("Tenmoku", "[Tenmoku]".to_owned(), vec![1280, 1260], 3),
            ("Ash over tenmoku", "Ash over [tenmoku]".to_owned(), vec![1240], 1),
            ("Shino", "[tenmoku]".to_owned(), vec![1300], 1),
        ]
    );
    assert_eq!(search("tenm").first().unwrap().as_ref(), found.first());
    assert!(search("raku").collect().unwrap().is_empty() && search("").first().unwrap().is_none());
    let in_view =
        drawer.read(|v| v.records::<Glaze>().search("shino").with(|g| g.linked_from::<Tile>(|t| t.glaze)).first());
    assert_eq!(in_view.unwrap().unwrap().1.len(), 1);
}

#[test]
fn writes_of_other_programs_are_heard_of_and_an_index_made_wrong_is_found_and_mended() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(glaze("Celadon", "pools")).unwrap();
    let other = other_program(&path);
    other.execute("INSERT INTO glaze (name, notes, cone) VALUES ('Nuka', 'white', 9)", []).unwrap();
    other.execute("UPDATE glaze SET notes = 'crackles' WHERE name = 'Celadon'", []).unwrap();
    let only = |typed: &str| drawer.records::<Glaze>().search(typed).only(|g| g.name).collect().unwrap();
    assert_eq!(only("nuka"), ["Nuka"]);
    assert_eq!(found(&drawer, "nuka").len() + found(&drawer, "crackles").len(), 2);
    assert!(found(&drawer, "pools").is_empty() && sound(&drawer));
    other.execute("INSERT OR REPLACE INTO glaze (name, notes, cone) VALUES ('Nuka', 'grey', 9)", []).unwrap();
    assert!(found(&drawer, "white").is_empty() && found(&drawer, "grey").len() == 1);
    assert!(sound(&drawer), "also of the row that was replaced without its trigger");
    assert!(found(&drawer, "white").is_empty() && found(&drawer, "grey").len() == 1);
    other.execute("UPDATE velvet_search_glaze SET notes = 'blue' WHERE notes = 'grey'", []).unwrap();
    assert!(!sound(&drawer));
    drawer.remake_search_index::<Glaze>().unwrap();
    assert!(sound(&drawer));
    // A view sees what was written before it began; where another program writes all the while, nobody waits for it.
    other.execute("UPDATE glaze SET notes = 'ochre' WHERE name = 'Nuka'", []).unwrap();
    assert_eq!(drawer.read(|view| view.records::<Glaze>().search("ochre").count()).unwrap(), 1);
    other.execute("UPDATE glaze SET notes = 'umber' WHERE name = 'Nuka'", []).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    assert_eq!(found(&drawer, "celadon").len(), 1);
    other.execute_batch("COMMIT; UPDATE glaze SET notes = 'grey'").unwrap();
    drop(other);
    drawer.close().unwrap();
    let reopened = Drawer::open(&path, schema()).unwrap();
    assert_eq!(found(&reopened, "gr").len(), 2);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]
    /// Rows that are replaced, and row numbers that change, by plain SQL of the app and of another program, next to typed writes and searches.
    #[test]
    fn the_index_is_that_of_the_rows_however_they_are_replaced(
        writes in proptest::collection::vec((0..9_u8, any::<bool>(), 1..7_i64, 1..7_i64, 0..5_usize), 1..40),
    ) {
        let (_folder, path) = folder();
        let drawer = Drawer::options().trail(velvet_drawer::Trail::Before).without_sessions().relaxed().open(&path, schema()).unwrap();
        let other = other_program(&path);
        for (what, by_app, a, b, word) in writes {
            let word = ["pools", "breaks", "crackles", "crazes", "pool blue"][word];
            let text = match what {
                0 => "INSERT OR REPLACE INTO glaze (name, notes, cone) VALUES ('g' || :a, :word, :b)",
                1 => "REPLACE INTO glaze (key, name, notes, cone) VALUES (:a, 'g' || :b, :word, 6)",
                2 => "UPDATE OR REPLACE glaze SET key = :b, notes = :word WHERE key = :a",
                3 => "UPDATE OR REPLACE glaze SET name = 'g' || :b, notes = :word WHERE key = :a",
                4 => "UPDATE OR IGNORE glaze SET key = :b + 100, notes = :word WHERE key = :a",
                5 => "UPDATE OR IGNORE glaze SET key = key - 100, notes = :word WHERE key > 100 AND :a < :b",
                6 => "DELETE FROM glaze WHERE key = :a AND :b <> 0 AND :word <> ''",
                7 => "INSERT OR IGNORE INTO glaze (name, notes, cone) VALUES ('g' || :a, :word, :b)",
                _ => "UPDATE glaze SET notes = :word WHERE key IN (:a, :b)",
            };
            if by_app {
                let run = |tx: &velvet_drawer::Tx<'_>| tx.sql(text).bind("a", a).bind("b", b).bind("word", word).run();
                drawer.write(|tx| {
                    // A part that is given up leaves nothing in the index.
                    let _ = tx.part(|tx| run(tx).and(Err::<(), _>(Error::own("no"))));
                    run(tx)
                }).unwrap();
            } else {
                other.execute(text, rusqlite::named_params! { ":a": a, ":b": b, ":word": word }).unwrap();
            }
            let expected: BTreeSet<Key<Glaze>> = drawer.records::<Glaze>().collect().unwrap().iter()
                .filter(|g| g.notes.as_deref().is_some_and(|notes| notes.starts_with(word))).map(|g| g.key()).collect();
            prop_assert_eq!(found(&drawer, word), expected);
            prop_assert!(sound(&drawer));
        }
        prop_assert!(velvet_drawer::inspect::File::open(&path).unwrap().check().unwrap().is_sound());
    }
}

#[test]
fn words_of_every_script_are_found_as_people_type_them() {
    let drawer = memory();
    // A text, what finds it, and what does not.
    let all: [(&str, &[&str], &[&str]); 17] = [
        ("Κεραμικά του Αιγαίου", &["κεραμικα", "ΚΕΡΑΜΙΚΆ", "αιγαιου"], &["κεραμη"]),
        ("Ёмкость для глазури", &["емкость", "ЁМКОСТЬ глаз"], &["йод"]),
        ("Garnek z Łodzi, żółty", &["lodzi", "zolty", "ŁODZI"], &["lodz "]),
        ("Čaša iz Đakova", &["casa", "dakova"], &["caša iza"]),
        ("Große Schüssel, weiß", &["grosse", "GROSSE SCHUSSEL", "weiss", "weiß"], &["wies"]),
        ("Chef d'œuvre", &["oeuvre", "œuvre", "doeuvre", "d'oeuvre", "d’œuvre"], &["euvre"]),
        ("Işıl ÇÖMLEK", &["isil", "ışıl", "comlek", "İSİL"], &["sil"]),
        ("青磁の茶碗", &["青磁", "茶碗", "磁の茶", "碗"], &["磁青", "青碗"]),
        ("陶瓷釉料配方", &["釉料", "配方", "陶"], &["釉方"]),
        ("เครื่องปั้นดินเผา", &["ดินเผา", "ปั้น", "เครื่อง"], &["เผาดิน"]),
        ("Glasur 🏺🔥 rot", &["🏺", "🔥", "🏺🔥", "glasur 🏺"], &["🔥🏺", "🌊"]),
        ("Made by O'Brien", &["obrien", "o'brien", "O’Brien", "brien", "by o'br"], &["obrian"]),
        ("Write an e-mail", &["email", "e-mail", "E‑MAIL", "mail"], &["emails"]),
        ("Send email to Obrien", &["e-mail", "o'brien"], &["e-mails"]),
        ("도자기 공방", &["도자기", "도자", "공방"], &["자기"]),
        ("कुम्हार की चाक", &["कुम्हार", "चाक"], &["कमहर"]),
        ("קַדָּר אוּמָן", &["קדר", "אומן"], &["קד "]),
    ];
    for (at, (text, _, _)) in all.iter().enumerate() {
        drawer.insert(glaze(&format!("no {at}"), text)).unwrap();
    }
    for (at, (text, finds, not)) in all.iter().enumerate() {
        let name = format!("no {at}");
        let finds_it = |typed: &str| {
            drawer.records::<Glaze>().search(typed).collect().unwrap().into_iter().find(|h| h.name == name)
        };
        for typed in *finds {
            let hit = finds_it(typed).unwrap_or_else(|| panic!("{typed} does not find {text}"));
            let marked = hit.marked();
            // What is marked is what was looked for, in the text as it is.
            assert_eq!(marked.text(), *text, "{typed}");
            let parts: Vec<&str> = marked.parts().filter(|(_, matches)| *matches).map(|(part, _)| part).collect();
            assert!(!parts.is_empty(), "{typed} marks nothing in {text}");
        }
        for typed in *not {
            assert!(finds_it(typed).is_none(), "{typed} finds {text}");
        }
    }
    let marked = |typed: &str| drawer.records::<Glaze>().search(typed).first().unwrap().unwrap().marked().to_string();
    assert_eq!(marked("grosse weiss"), "[Große] Schüssel, [weiß]");
    assert_eq!(marked("磁の茶"), "青[磁の茶]碗");
    assert_eq!(marked("by obr"), "Made [by] [O'Brien]");
    assert_eq!(marked("e-mail to"), "Send [email] [to] Obrien");
    assert_eq!(marked("ดินเผา"), "เครื่องปั้น[ดินเผา]");
    assert_eq!(marked("🔥"), "Glasur 🏺[🔥] rot");
    assert!(sound(&drawer));
}

#[test]
fn what_is_pasted_is_bounded_and_one_letter_is_answered_at_once() {
    let drawer = memory();
    drawer.insert_all((0..3_000).map(|n| glaze(&format!("a{n}"), "all alike"))).unwrap();
    let pasted = (0..20_000).map(|n| format!("alike-{n} ")).collect::<String>();
    assert_eq!(drawer.records::<Glaze>().search(&pasted).count().unwrap(), 0);
    assert_eq!(drawer.records::<Glaze>().search(&"all ".repeat(20_000)).limit(3).collect().unwrap().len(), 3);
    assert_eq!(drawer.records::<Glaze>().search(&"a".repeat(1_000_000)).count().unwrap(), 0);
    let first = drawer.records::<Glaze>().search("a").limit(2).collect().unwrap();
    assert_eq!(first.iter().map(|h| h.name.as_str()).collect::<Vec<_>>(), ["a0", "a1"]);
    let explained = drawer.records::<Glaze>().search("al").limit(2).explain().unwrap();
    assert!(explained.steps.iter().all(|step| !step.contains("TEMP B-TREE")), "{explained}");
    assert!(drawer.records::<Glaze>().search("all").explain().unwrap().statement.contains("rank"));
}

mod later {
    use velvet_drawer::Record;

    /// Version 2: words of a renamed column, and of one whose table is written anew.
    #[derive(Record, Debug)]
    pub(super) struct Glaze {
        #[record(own_key, was = "name", searchable)]
        pub title: String,
        #[record(searchable)]
        pub notes: Option<String>,
        #[record(fill = "'cone ' || cone", searchable)]
        pub cone: String,
    }

    /// Version 3: another table, fewer columns that are searched.
    #[derive(Record, Debug)]
    #[record(was = "glaze")]
    pub(super) struct Recipe {
        #[record(own_key)]
        pub title: String,
        #[record(was = "notes", searchable)]
        pub remarks: Option<String>,
        pub cone: String,
    }
}

#[test]
fn an_upgrade_takes_the_index_along_through_renames_rebuilds_and_new_words() {
    use velvet_core::evolve::{History, draft};
    use velvet_core::schema::structure::Structure;
    let structures = [Glaze::table(), later::Glaze::table(), later::Recipe::table()]
        .map(|table| Structure { tables: vec![table.unwrap()] });
    let mut history = History::start("glazes", &structures[0]);
    let mut histories = Vec::new();
    for (version, hints) in [(1, ("glaze", later::Glaze::HINTS)), (2, ("recipe", later::Recipe::HINTS))] {
        history.versions[0].released = true;
        let drafted = draft(&structures[version - 1], &structures[version], &[hints], &[], &[]);
        assert_eq!(drafted.questions, [""; 0]);
        history = history.recorded(&structures[version], drafted, &[]);
        histories.push(&*Box::leak(history.to_json().into_boxed_str()));
    }
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert_all([glaze("Celadon", "pools"), glaze("Shino", "crawls")]).unwrap();
    drawer.close().unwrap();
    let older = std::fs::read(&path).unwrap();

    let drawer = Drawer::open(&path, Schema::new("glazes").record::<later::Glaze>().history(histories[0])).unwrap();
    let hits = |words: &str| drawer.records::<later::Glaze>().search(words).collect().unwrap().len();
    assert_eq!((hits("celadon"), hits("crawls"), hits("cone 6")), (1, 1, 2));
    drawer.insert(later::Glaze { title: "Nuka".into(), notes: None, cone: "cone 10".into() }).unwrap();
    assert!(hits("nuka") == 1 && drawer.search_index_is_sound::<later::Glaze>().unwrap());
    drawer.close().unwrap();

    // From version 2, and from version 1 at once.
    for file in [std::fs::read(&path).unwrap(), older] {
        let schema = Schema::new("glazes").record::<later::Recipe>().history(histories[1]);
        let drawer = Drawer::from_bytes(&file, schema).unwrap();
        let hits = |words: &str| drawer.records::<later::Recipe>().search(words).collect().unwrap().len();
        assert_eq!((hits("celadon"), hits("pool")), (0, 1));
        drawer.records::<later::Recipe>().update(|r| r.remarks.set("dark")).unwrap();
        assert!(hits("pool") == 0 && hits("dark") >= 2 && drawer.search_index_is_sound::<later::Recipe>().unwrap());
        let left: Vec<String> =
            drawer.sql("select name from sqlite_schema where name like '%search_glaze%'").rows().unwrap();
        assert!(left.is_empty(), "{left:?}");
    }
}

#[test]
fn a_file_without_its_index_is_refused_and_one_of_before_is_given_one() {
    let (_folder, path) = folder();
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    other_program(&path).execute("DROP TRIGGER velvet_search_glaze_update", []).unwrap();
    let error = Drawer::open(&path, schema()).unwrap_err();
    assert!(error.is_other_structure(), "{error:?}");
    assert!(
        error.to_string().contains("the search index of `glaze` has the columns () where (name, notes)"),
        "{error}"
    );

    let (_folder, path) = folder();
    let plain = "CREATE TABLE glaze (id INTEGER PRIMARY KEY, name TEXT UNIQUE, notes TEXT, cone INT); \
                 INSERT INTO glaze (name, notes, cone) VALUES ('Celadon', 'pools', 6)";
    other_program(&path).execute_batch(plain).unwrap();
    let drawer = Drawer::options().adopt().open(&path, schema()).unwrap();
    assert!(found(&drawer, "pool").len() == 1 && sound(&drawer));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 128, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn suggestions_are_the_best_of_all_texts_each_once(
        names in prop::collection::vec("[aAbBÉé ,-]{0,5}", 0..20), typed in "[abeé]{0,2} ?", count in 0..5_usize,
    ) {
        let drawer = memory();
        let rows = names.iter().enumerate().map(|(n, name)| glaze(&format!("{n}"), name));
        drawer.insert_all(rows).unwrap();
        let typed_plain = plain(typed.trim());
        let mut expected: Vec<(u8, usize, String)> = names.iter().filter_map(|name| {
            let text = plain(name);
            let place = if typed_plain.is_empty() { return None } else if text.starts_with(&typed_plain) { 0 }
                else if text.match_indices(&typed_plain).any(|(at, _)| !text[..at].ends_with(char::is_alphanumeric)) { 1 }
                else if text.contains(&typed_plain) { 2 } else { return None };
            Some((place, name.len(), name.clone()))
        }).collect();
        expected.sort();
        expected.dedup();
        expected.truncate(count);
        let suggested = drawer.records::<Glaze>().suggest(|g| g.notes, &typed, count).unwrap();
        prop_assert_eq!(suggested.iter().map(|s| s.text()).collect::<Vec<_>>(), expected.iter().map(|e| &e.2).collect::<Vec<_>>());
        // The same for the next letter, from what is at hand, and anew after something was written.
        let again = drawer.records::<Glaze>().suggest(|g| g.notes, &typed, count).unwrap();
        prop_assert_eq!(&again, &suggested);
        drawer.records::<Glaze>().update(|g| g.notes.set("zz")).unwrap();
        let after = drawer.records::<Glaze>().suggest(|g| g.notes, &typed, count).unwrap();
        prop_assert!(after.is_empty());
        for s in &suggested {
            prop_assert_eq!(plain(&s.text()[s.matches()[0].clone()]), typed_plain.clone());
        }
    }
}

#[test]
fn suggestions_follow_what_is_written_here_and_by_others() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let texts = |typed: &str| {
        let all = drawer.records::<Glaze>().filter(|g| g.cone.is(6)).suggest(|g| g.name, typed, 9).unwrap();
        all.iter().map(|s| s.text().to_owned()).collect::<Vec<_>>()
    };
    drawer.insert(glaze("Celadon", "")).unwrap();
    assert_eq!((texts("c"), texts("ce")), (vec!["Celadon".to_owned()], vec!["Celadon".to_owned()]));
    drawer.insert(glaze("Cerulean", "")).unwrap();
    assert_eq!(texts("ce"), ["Celadon", "Cerulean"]);
    other_program(&path).execute("DELETE FROM glaze WHERE name = 'Celadon'", []).unwrap();
    assert_eq!(texts("ce"), ["Cerulean"]);
    let on_notes = drawer.records::<Glaze>().suggest(|g| g.notes, "ce", 9).unwrap();
    assert!(on_notes.is_empty(), "other texts are not mixed up with these");
    let in_tx = drawer.write(|tx| {
        tx.insert(glaze("Cement", ""))?;
        tx.records::<Glaze>().suggest(|g| g.name, "ce", 9)
    });
    assert_eq!(in_tx.unwrap().len(), 2);
    drawer.close().unwrap();
    assert!(!path.with_file_name("kiln.drawer-wal").exists(), "what is at hand keeps nothing open");
}

#[test]
fn writes_from_within_a_list_that_is_inserted_are_heard_of_too() {
    let drawer = memory();
    let first = drawer.insert(glaze("Celadon", "pools")).unwrap();
    let result = drawer.write(|tx| {
        let list = (0..3).map(|n| {
            // An app's own code, in the middle of it.
            tx.change(first.key(), |g| g.notes = Some(format!("crawls {n}"))).unwrap();
            tx.insert_all([glaze(&format!("inner {n}"), "")]).unwrap();
            glaze(&format!("outer {n}"), "")
        });
        tx.insert_all(list)
    });
    assert_eq!(result.unwrap().len(), 3);
    assert!(sound(&drawer) && found(&drawer, "crawls").len() == 1 && found(&drawer, "inner").len() == 3);
}
