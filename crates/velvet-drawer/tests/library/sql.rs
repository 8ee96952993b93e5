//! Statements that an app writes itself: values bound by name, rows read by name, and wrong ones found in tests.

use crate::common;
use common::{Piece, Stage, everything, folder, glaze, memory, piece, schema};
use std::ops::ControlFlow;
use std::panic::catch_unwind;
use velvet_drawer::{Drawer, Error, Excerpt, Key, Stored, testing};

#[derive(Excerpt, Debug, PartialEq)]
#[excerpt(of = Piece)]
struct Line {
    mark: String,
    grams: Option<u32>,
}

#[derive(Excerpt, Debug, PartialEq)]
struct Heaviest {
    stage: Stage,
    #[excerpt(name = "max grams")]
    grams: Option<u32>,
    #[excerpt(json)]
    marks: Vec<String>,
}

fn studio() -> Drawer {
    let drawer = memory();
    let stages = [Stage::Thrown, Stage::Bisque];
    let pieces = (0..6).map(|n| Piece {
        stage: stages[n % 2],
        grams: (n != 4).then_some(100 * n as u32),
        ..piece(&format!("K-{n}"))
    });
    drawer.insert_all(pieces).unwrap();
    drawer
}

#[test]
fn rows_are_read_as_values_tuples_excerpts_and_stored_records() {
    let drawer = studio();
    let heavy =
        |least: u32| drawer.sql("select * from piece where grams >= :least order by grams desc").bind("least", least);
    let lines: Vec<Line> = heavy(300).rows().unwrap();
    assert_eq!(lines[0], Line { mark: "K-5".into(), grams: Some(500) });
    assert_eq!(lines.len(), 2);
    let stored: Stored<Piece> = heavy(300).first().unwrap().unwrap();
    assert_eq!(drawer.get(stored.key()).unwrap(), Some(stored));
    assert_eq!(heavy(900).first::<Line>().unwrap(), None);
    let by_name = "select json_group_array(mark) as marks, max(grams) as \"max grams\", stage from piece group by stage order by 3";
    let groups: Vec<Heaviest> = drawer.sql(by_name).rows().unwrap();
    let marks = ["K-1", "K-3", "K-5"].map(str::to_owned).to_vec();
    assert_eq!(groups[0], Heaviest { stage: Stage::Bisque, grams: Some(500), marks });
    let keys: Vec<(Key<Piece>, Stage)> = drawer
        .sql("select key, stage from piece where stage = :stage and (:grams is null or grams = :grams) order by key")
        .bind("stage", Stage::Bisque)
        .bind(":grams", None::<u32>)
        .rows()
        .unwrap();
    assert_eq!(keys.iter().map(|(key, _)| key.number()).collect::<Vec<_>>(), [2, 4, 6]);
    assert_eq!(drawer.sql("select count(*) from piece").first::<u64>().unwrap(), Some(6));
    let mut seen = 0;
    let stop = |_: String| {
        seen += 1;
        if seen < 3 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    };
    drawer.sql("select mark from piece").for_each(stop).unwrap();
    assert_eq!(seen, 3);
    // The same excerpt from a typed selection, where the compiler sees that it fits.
    let typed: Vec<Line> = drawer.records::<Piece>().filter(|p| p.grams.at_least(400)).only_as().collect().unwrap();
    assert_eq!(typed, [Line { mark: "K-5".into(), grams: Some(500) }]);
}

#[test]
fn a_bound_value_is_never_read_as_a_statement() {
    let drawer = studio();
    let evil = "'; drop table piece; --";
    let rows = drawer.sql("select mark from piece where mark = :mark").bind("mark", evil).rows::<String>().unwrap();
    assert!(rows.is_empty());
    drawer.write(|tx| tx.sql("update piece set remarks = :r where mark = 'K-1'").bind("r", evil).run()).unwrap();
    assert_eq!(drawer.get_by_own_key::<Piece>("K-1").unwrap().unwrap().remarks, evil);
    let odd = drawer.records::<Piece>().filter(|p| p.remarks.contains(evil) & p.remarks.one_of([evil]));
    assert_eq!(odd.count().unwrap(), 1);
}

#[test]
fn writing_takes_a_transaction_and_is_kept_or_rolled_back_with_it() {
    let drawer = studio();
    let changed = drawer.write(|tx| {
        tx.insert(glaze("Celadon"))?;
        let n = tx
            .sql("update piece set glaze = (select key from glaze) where stage = :s")
            .bind("s", Stage::Bisque)
            .run()?;
        let new: Option<i64> =
            tx.sql("insert into glaze (name) values (:n) returning key").bind("n", "Shino").first()?;
        assert_eq!(new, Some(2));
        Ok(n)
    });
    assert_eq!(changed.unwrap(), 3);
    let rolled_back = drawer.write(|tx| {
        tx.sql("delete from piece").run()?;
        tx.sql("delete from glaze where nome = 'x'").run()
    });
    let error = rolled_back.unwrap_err();
    assert!(error.is_bad_query());
    assert!(
        error.to_string().starts_with(
            "cannot run “delete from glaze where nome = 'x'”: there is no column `nome`; did you mean `name`? \
             Nothing was written by it."
        ),
        "{error}"
    );
    assert_eq!(drawer.count::<Piece>().unwrap(), 6);
    let clash = drawer.write(|tx| tx.sql("update piece set mark = 'K-1'").run()).unwrap_err();
    assert!(clash.is_clash(), "{clash:?}");
    let unfit = drawer.write(|tx| tx.sql("update piece set mark = null").run()).unwrap_err();
    assert!(unfit.is_misfit() && unfit.to_string().contains("NOT NULL"), "{unfit:?}");
    let broken = drawer.write(|tx| tx.sql("update piece set glaze = 99").run()).unwrap_err();
    assert!(broken.is_broken_link(), "{broken:?}");
}

/// What each statement is refused with, on a drawer, and within a transaction.
#[test]
fn a_statement_that_is_wrong_or_does_too_much_is_refused_in_words() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    let read = |text: &str| drawer.sql(text).rows::<i64>().unwrap_err();
    let write = |text: &str| drawer.write(|tx| tx.sql(text).run()).unwrap_err();
    let cases: [(Error, &str); 19] = [
        (read("delete from piece returning key"), "it writes, and here statements only read"),
        (drawer.read(|v| v.sql("delete from piece returning key").rows::<i64>()).unwrap_err(), "it writes, and here"),
        (read("select mrk from piece"), "there is no column `mrk`; did you mean `mark`?"),
        (read("select 1 from peice"), "there is no table `peice`; did you mean `piece`?"),
        (read("selct 1"), "near \"selct\": syntax error"),
        (read(""), "it returns no rows"),
        (read("select 1; delete from piece"), "Multiple statements"),
        (read("select key, mark from piece"), "it returns 2 columns, and is read as 1 column"),
        (read("select count(*) from piece where grams = :g"), "no value is bound to `:g`"),
        (read("select count(*) from piece where grams = ?"), "it has a `?` without a name"),
        (drawer.sql("select :a").bind("b", 1).rows::<i64>().unwrap_err(), "bound to `:b`, but it has only `:a`"),
        (read("attach 'other.db' as other"), "it is about another file"),
        (read("begin immediate"), "it begins or ends a transaction, which `write` does"),
        (write("commit"), "it begins or ends a transaction, which `write` does"),
        (write("drop table piece"), "it changes the structure; change the schema, and record a version of it"),
        (write("create table t (a)"), "it changes the structure"),
        (write("pragma foreign_keys = off"), "it is about the setting `foreign_keys`, which opening decides"),
        (write("delete from velvet_about"), "it writes to `velvet_about`, which is not the app's"),
        (write("select key from piece"), "it returns rows. Nothing was written by it. Ask for them with `rows`"),
    ];
    for (error, said) in cases {
        assert!(error.is_bad_query(), "{error:?}");
        assert!(error.to_string().contains(said), "{error}");
    }
    let error = drawer.sql("select mark from piece").rows::<i64>().unwrap_err();
    assert!(error.is_unreadable(), "{error:?}");
    assert!(
        error.to_string().starts_with("cannot read `mark` of “select mark from piece”: \"K-1\" is text, not a"),
        "{error}"
    );
    // The same text as one of ours, which may do more, is refused after it was run too.
    drawer.write(|tx| tx.part(|tx| tx.count::<Piece>())).unwrap();
    assert!(write("SAVEPOINT velvet_part").is_bad_query());
    assert_eq!(drawer.count::<Piece>().unwrap(), 1);
    let explained = drawer.sql("select * from piece where mark = :mark").bind("mark", "K-1").explain().unwrap();
    assert!(explained.by_index && explained.statement.starts_with("select"), "{explained}");
}

#[test]
fn statements_that_do_not_fit_are_found_in_the_apps_own_tests() {
    testing::statements_are_valid(&schema(), |check| {
        check.rows::<Line>("select mark, grams from piece where stage = :stage");
        check.rows::<u32>("select grams from piece where grams is not null and grams < 1000");
        check.rows::<(String, Option<i64>)>("select stage, sum(grams) from piece group by stage");
        check.rows::<Stored<Piece>>("select * from piece");
        check.writes("update piece set remarks = remarks || :more where key = :key");
        check.writes("insert into glaze (name) values (:name)");
        check.writes("insert into photo (piece, side) values (:piece, :side)");
    });
    testing::statements_are_valid(&everything::schema(), |check| {
        check.rows::<everything::Bearing>("select bearing from \"select\" where bearing > :b");
        check.rows::<Option<everything::Bearing>>("select maybe_bearing from \"select\"");
        check.writes("update \"select\" set bytes = :bytes, i8 = :n, type = :text, f64 = :x, secret = :secret");
    });
    let found = catch_unwind(|| {
        testing::statements_are_valid(&schema(), |check| {
            check.rows::<Line>("select mark, gram from piece");
            check.rows::<Line>("select mark, key from piece");
            check.rows::<u32>("select grams from piece");
            check.rows::<i64>("select max(grams) from piece");
            check.rows::<Stage>("select remarks from piece");
            check.rows::<u8>("select grams from piece where grams is not null");
            check.rows::<i64>("delete from piece returning key");
            check.writes("update piece set remarks = ?");
            check.writes("delete from pieces");
            check.writes("insert into piece (mark, grams) values (:mark, :grams)");
            check.writes("update piece set grams = 'heavy'");
            check.writes("update piece set stage = null where mark <> :mark");
        });
    });
    let said = found.unwrap_err().downcast::<String>().unwrap();
    let expected = [
        "there is no column `gram`; did you mean `grams`?",
        "it returns no column `grams`, but mark, key",
        "cannot read `grams` of “select grams from piece”: nothing is there, where a whole number (u32) must be",
        "cannot read `max(grams)` of “select max(grams) from piece”: nothing is there, where a whole number (i64) must be",
        "its column `remarks` is `piece.remarks`, which holds text, but is read as a choice of thrown, bisque, glazed",
        "does not fit u8 (0 to 255)",
        "it writes, and here statements only read",
        "it has a `?` without a name",
        "there is no table `pieces`; did you mean `piece`?",
        "NOT NULL constraint failed: piece.stage",
        "cannot store TEXT value in INTEGER column piece.grams",
        "NOT NULL constraint failed: piece.stage",
    ];
    let lines: Vec<&str> = said.lines().filter(|l| l.starts_with("  - ")).collect();
    assert_eq!(lines.len(), expected.len(), "{said}");
    for (line, expected) in lines.iter().zip(expected) {
        assert!(line.contains(expected), "{line}\n{expected}");
    }
}
