//! Changes between structures, the history file, and what is asked rather than guessed.

use crate::common;
use common::{all_new, structures};
use proptest::prelude::*;
use velvet_core::evolve::{History, HistoryHead, Operation, Step, Version, draft, plan};
use velvet_core::schema::fingerprint;
use velvet_core::schema::hints::{Hint, Hints, Origin};
use velvet_core::schema::structure::{ColumnDefinition, Index, Kind, OnDelete, Structure, Table};

proptest! {
    #[test]
    fn the_drafted_changes_lead_from_one_structure_to_the_other(a in structures(), b in structures()) {
        for (from, to) in [(&a, &b), (&a, &a), (&a, &Structure { tables: b.tables[..2].to_vec() })] {
            let drafted = draft(from, to, &all_new(), &[], &[]);
            // Every column has a fill here, also those that keep their type.
            prop_assert!(drafted.questions.iter().all(|question| question.contains("has nothing to fill")), "{:?}", drafted.questions);
            let mut reached = from.clone();
            for change in &drafted.changes {
                prop_assert_eq!(change.apply(&mut reached), Ok(()));
            }
            prop_assert_eq!(in_order(&reached), in_order(to));
            prop_assert!(in_order(from) != in_order(to) || drafted.changes.is_empty());

            let versions = [Version { version: 2, released: false, steps: drafted.changes.clone() }];
            prop_assert!(plan(from, versions.iter()).is_ok());
            let history = History::start("app", from).recorded(from, Default::default(), &[]);
            let mut history = history;
            history.versions[0].released = true;
            let history = history.recorded(to, drafted, &[]);
            prop_assert_eq!(&History::parse(&history.to_json()).unwrap(), &history);
            prop_assert_eq!(fingerprint::of(&history.structure(2).unwrap()), fingerprint::of(to));
            prop_assert_eq!(HistoryHead::parse(&history.to_json()).unwrap().fingerprint, fingerprint::of(to));
        }
    }
}

fn column(name: &str, kind: Kind, optional: bool) -> ColumnDefinition {
    ColumnDefinition {
        name: name.into(),
        kind,
        optional,
        default: None,
        on_delete: None,
        private: false,
        remove_unlinked: false,
        ignore_case: false,
    }
}

fn studio(columns: Vec<ColumnDefinition>) -> Structure {
    Structure { tables: vec![Table::new("piece", columns, None, vec![])] }
}

fn words(changes: &[Step]) -> Vec<String> {
    changes.iter().map(ToString::to_string).collect()
}

#[test]
fn what_cannot_be_known_is_asked_by_naming_the_attribute() {
    let before = studio(vec![
        column("wt", Kind::F64, true),
        column("shelf", Kind::Text, true),
        column("kiln", Kind::I64, false),
    ]);
    let after = studio(vec![
        column("grams", Kind::F64, true),
        column("shelf", Kind::Text, false),
        column("kiln", Kind::U8, false),
        column("by", Kind::Text, false),
    ]);
    const BY: Hints = Hints { table: None, columns: &[Hint { column: "by", origin: Some(Origin::New), fill: None }] };
    let asked = draft(&before, &after, &[("piece", BY)], &[], &[]).questions;
    let expected = [
        "is the new `piece.grams` the `wt` of before? Then write #[record(was = \"wt\")]",
        "what do rows get whose `piece.shelf` is missing? Write #[record(default = …)]",
        "how do the values of `piece.kiln` become u8? Some may lie outside 0 to 255. Write #[record(fill = \"…\")]",
        "what do rows that exist get in the new `piece.by`? Write #[record(default = …)]",
    ];
    assert_eq!(asked.len(), expected.len(), "{asked:#?}");
    for (question, start) in asked.iter().zip(expected) {
        assert!(question.starts_with(start), "{question}");
    }
    const IDLE: Hints = Hints { table: None, columns: &[Hint { column: "wt", origin: None, fill: Some("wt * 1000") }] };
    let renamed =
        studio(vec![column("wt", Kind::F64, true), column("room", Kind::Text, true), column("kiln", Kind::I64, false)]);
    let asked = draft(&before, &renamed, &[("piece", IDLE)], &[], &[]).questions;
    assert!(
        asked[0].starts_with("`piece.wt` keeps its type, so #[record(fill = \"wt * 1000\")] has nothing to fill"),
        "{asked:?}"
    );
    let moved = Structure { tables: vec![Table { name: "pot".into(), ..before.tables[0].clone() }] };
    assert!(
        draft(&before, &moved, &[], &[], &[]).questions[0].starts_with("is the new table `pot` the `piece` of before?")
    );
}

#[test]
fn whatever_goes_away_beside_something_new_is_asked_about_also_where_the_type_differs() {
    let before = studio(vec![column("wt", Kind::F64, true), column("old", Kind::Text, true)]);
    let after = studio(vec![column("grams", Kind::U32, true)]);
    let asked =
        |hints: &[(&str, Hints)], before_that: &[Step]| draft(&before, &after, hints, before_that, &[]).questions;
    let question = "is the new `piece.grams` the `wt`, or the `old` of before? Then write #[record(was = \"wt\")]";
    assert!(asked(&[], &[])[0].starts_with(question), "{:?}", asked(&[], &[]));
    const NEW: Hints =
        Hints { table: None, columns: &[Hint { column: "grams", origin: Some(Origin::New), fill: None }] };
    assert_eq!(asked(&[("piece", NEW)], &[]), [""; 0]);
    // Once it is recorded, the answer may go from the field; what goes away afterwards is asked about.
    let recorded = draft(&before, &after, &[("piece", NEW)], &[], &[]).changes;
    assert_eq!(asked(&[], &recorded), [""; 0]);
    assert!(asked(&[], &recorded[..2])[0].starts_with("is the new `piece.grams` the `old` of before?"));
    let named =
        |name: &str| Structure { tables: vec![Table::new(name, vec![column(name, Kind::Text, true)], None, vec![])] };
    let tables = draft(&named("shelf"), &named("rack"), &[], &[], &[]).questions;
    assert!(tables[0].starts_with("is the new table `rack` the `shelf` of before?"), "{tables:?}");
}

#[test]
fn names_that_are_swapped_are_asked_about() {
    let structure = studio(vec![column("a", Kind::Text, true), column("b", Kind::Text, true)]);
    const SWAPPED: Hints = Hints {
        table: None,
        columns: &[
            Hint { column: "a", origin: Some(Origin::Was("b")), fill: None },
            Hint { column: "b", origin: Some(Origin::Was("a")), fill: None },
        ],
    };
    let drafted = draft(&structure, &structure, &[("piece", SWAPPED)], &[], &[]);
    assert_eq!(drafted.changes, []);
    assert!(
        drafted.questions[0].starts_with("`piece.a` says that it was `b`, but both were there before. Remove `was`")
    );
    assert_eq!(drafted.questions.len(), 2);
    let (shelf, rack) = (studio(vec![column("a", Kind::Text, true)]).tables[0].clone(), structure.tables[0].clone());
    let two =
        Structure { tables: vec![Table { name: "rack".into(), ..rack }, Table { name: "shelf".into(), ..shelf }] };
    let was = |was| Hints { table: Some(Origin::Was(was)), columns: &[] };
    assert_eq!(draft(&two, &two, &[("rack", was("shelf")), ("shelf", was("rack"))], &[], &[]).questions.len(), 2);
}

#[test]
fn what_may_go_wrong_on_a_phone_or_works_otherwise_is_mentioned() {
    let link = |on_delete| ColumnDefinition {
        on_delete: Some(on_delete),
        ..column("by", Kind::Link { table: "piece".into() }, true)
    };
    let (refuse, remove) = (studio(vec![link(OnDelete::Refuse)]), studio(vec![link(OnDelete::Remove)]));
    let warnings = draft(&refuse, &remove, &[], &[], &[]).warnings;
    assert_eq!(
        warnings,
        [
            "when the record that `piece.by` links to is removed, this record is removed with it, and no longer removing it is refused"
        ]
    );
    assert_eq!(draft(&remove, &refuse, &[], &[], &[]).warnings.len(), 1);
    let plain = studio(vec![column("name", Kind::Text, false)]);
    let mut unique = plain.clone();
    unique.tables[0].indexes.push(Index { columns: vec!["name".into()], unique: true });
    assert!(
        draft(&plain, &unique, &[], &[], &[]).warnings[0]
            .starts_with("rows of `piece` that exist may have the same name")
    );
    assert_eq!(draft(&unique, &plain, &[], &[], &[]).warnings, [""; 0]);
}

#[test]
fn what_is_corrected_before_a_release_is_recorded_again() {
    let before = studio(vec![column("wt", Kind::F64, true)]);
    let defaulted =
        |default: &str| ColumnDefinition { default: Some(default.into()), ..column("wt", Kind::F64, false) };
    let mut history = History::start("app", &before);
    history.versions[0].released = true;
    let record = |history: &History, to: &Structure, hints: Hints| {
        let base = history.base().unwrap().0.unwrap();
        let drafted = draft(&base, to, &[("piece", hints)], history.unreleased(), &[]);
        assert_eq!(drafted.questions, [""; 0]);
        history.recorded(to, drafted, &[])
    };
    let changes = |history: &History| words(&history.versions[0].steps);
    let first = record(&history, &studio(vec![defaulted("1.0")]), Hints::default());
    let second = record(&first, &studio(vec![defaulted("2.0")]), Hints::default());
    assert_eq!(
        changes(&second),
        ["change column `piece.wt` to f64, by default 2.0, filled with coalesce(\"wt\", 2.0)"]
    );

    let renamed = |fill| {
        let hints: &'static [Hint] =
            Box::leak(Box::new([Hint { column: "grams", origin: Some(Origin::Was("wt")), fill: Some(fill) }]));
        Hints { table: None, columns: hints }
    };
    let after = studio(vec![column("grams", Kind::U32, true)]);
    let first = record(&history, &after, renamed("round(grams)"));
    let second = record(&first, &after, renamed("round(grams * 1000)"));
    assert_eq!(
        changes(&second),
        [
            "rename column `piece.wt` to `grams`",
            "change column `piece.grams` to u32, optional, filled with round(grams * 1000)"
        ]
    );
    // What was written by hand stays while what is drafted is among it.
    let mut by_hand = second.clone();
    by_hand.versions[0].steps.insert(1, Step::Statement { statement: "UPDATE piece SET grams = abs(grams)".into() });
    assert_eq!(record(&by_hand, &after, renamed("round(grams * 1000)")), by_hand);
    assert_eq!(record(&by_hand, &after, Hints::default()), by_hand);
}

#[test]
fn answers_become_renames_fills_and_drops_in_the_order_they_must_be_made() {
    let before = studio(vec![column("wt", Kind::F64, true), column("old", Kind::Text, true)]);
    let mut after = studio(vec![column("grams", Kind::U32, true), column("by", Kind::Text, false)]);
    after.tables[0].name = "pot".into();
    const HINTS: Hints = Hints {
        table: Some(Origin::Was("piece")),
        columns: &[
            Hint { column: "grams", origin: Some(Origin::Was("wt")), fill: Some("round(grams * 1000)") },
            Hint { column: "by", origin: Some(Origin::New), fill: Some("'nobody'") },
        ],
    };
    let drafted = draft(&before, &after, &[("pot", HINTS)], &[], &[]);
    assert_eq!(drafted.questions, [""; 0]);
    assert_eq!(
        words(&drafted.changes),
        [
            "rename table `piece` to `pot`",
            "rename column `pot.wt` to `grams`",
            "add column `pot.by`: text, filled with 'nobody'",
            "change column `pot.grams` to u32, optional, filled with round(grams * 1000)",
            "drop column `pot.old`, with everything stored in it",
        ]
    );
}

#[test]
fn changes_of_one_table_that_the_engine_cannot_make_in_place_share_a_rebuild() {
    let before =
        studio(vec![column("wt", Kind::F64, true), column("old", Kind::Text, true), column("n", Kind::U8, false)]);
    let changes = vec![
        Step::AddColumn { table: "piece".into(), column: column("new", Kind::Text, true), fill: None },
        Step::ChangeColumn {
            table: "piece".into(),
            column: column("wt", Kind::I64, false),
            fill: Some("ifnull(wt, 0)".into()),
        },
        Step::DropColumn { table: "piece".into(), column: "old".into() },
        Step::ChangeColumn { table: "piece".into(), column: column("n", Kind::U16, false), fill: None },
        Step::AddIndex { table: "piece".into(), index: Index { columns: vec!["n".into()], unique: false } },
    ];
    let steps = plan(&before, [Version { version: 2, released: true, steps: changes }].iter()).unwrap();
    let said: Vec<String> = steps[0]
        .operations
        .iter()
        .map(|operation| match operation {
            Operation::Run { statement, .. } => statement.clone(),
            Operation::AddColumn { table, definition, .. } => format!("{table} gets {definition}"),
            Operation::Rebuild(rebuild) => rebuild.copy.clone(),
            Operation::Code(name) => name.clone(),
        })
        .collect();
    assert_eq!(
        said,
        [
            "piece gets \"new\" TEXT",
            "INSERT INTO \"velvet_new_piece\" (\"key\", \"wt\", \"n\", \"new\") SELECT \"key\", (ifnull(wt, 0)), \"n\", \"new\" \
             FROM \"piece\" WHERE \"key\" > ?1 AND \"key\" <= ?2",
            "CREATE INDEX \"piece.n\" ON \"piece\" (\"n\")",
        ]
    );
    assert_eq!(steps[0].losses.len(), 2, "{:?}", steps[0].losses);
}

/// A history of two versions, the second with something by hand.
fn history() -> History {
    let first = studio(vec![column("wt", Kind::F64, true)]);
    let second = studio(vec![column("wt", Kind::F64, true), column("by", Kind::Text, false)]);
    let mut history = History::start("kilnbook", &first);
    history.versions[0].released = true;
    let drafted = draft(&first, &second, &[], &[], &[]);
    let mut history = history.recorded(&second, drafted, &["name_potters".into()]);
    if let Step::AddColumn { fill, .. } = &mut history.versions[0].steps[0] {
        *fill = Some("'nobody'".into());
    }
    history.versions[0].steps.push(Step::Statement { statement: "UPDATE piece SET wt = 0 WHERE wt < 0".into() });
    history
}

#[test]
fn what_a_person_wrote_stays_when_a_version_is_recorded_again() {
    let history = history();
    let (base, version) = history.base().unwrap();
    assert_eq!(version, 2);
    let third =
        studio(vec![column("wt", Kind::F64, true), column("by", Kind::Text, false), column("shelf", Kind::Text, true)]);
    let amended = history.recorded(
        &third,
        draft(&base.unwrap(), &third, &[], history.unreleased(), &[]),
        &["name_potters".into()],
    );
    assert_eq!(
        words(&amended.versions[0].steps),
        [
            "add column `piece.by`: text, filled with 'nobody'",
            "add column `piece.shelf`: text, optional",
            "run the app's code `name_potters`",
            "run SQL: UPDATE piece SET wt = 0 WHERE wt < 0",
        ]
    );
    assert_eq!(amended.newest, 2);

    let mut released = amended.clone();
    released.versions[0].released = true;
    let next = released.recorded(&third, Default::default(), &["name_potters".into()]);
    assert_eq!((next.newest, next.versions.len()), (3, 3), "a released version is not touched");
    assert_eq!(next.versions[1], released.versions[0]);
}

#[test]
fn a_history_says_whether_a_table_was_there_before_another() {
    let table = |name: &str| Table::new(name, vec![column("a", Kind::Text, true)], None, vec![]);
    let of = |names: &[&str]| Structure { tables: names.iter().map(|name| table(name)).collect() };
    let steps = |all: &[&[Step]]| {
        let mut history = History::start("x", &of(&["first"]));
        for (at, steps) in (2..).zip(all) {
            history.versions.insert(0, Version { version: at, released: true, steps: steps.to_vec() });
        }
        history
    };
    let add = |name: &str| Step::AddTable { table: table(name) };
    let rename = |from: &str, to: &str| Step::RenameTable { table: from.into(), to: to.into() };
    assert!(steps(&[&[add("later")]]).had_without("first", "later"));
    assert!(steps(&[&[add("later")], &[rename("first", "now"), rename("later", "too")]]).had_without("now", "too"));
    assert!(steps(&[&[add("a")], &[add("b")]]).had_without("a", "b"));
    assert!(!steps(&[&[add("a"), add("b")]]).had_without("a", "b"), "both came at once");
    assert!(!steps(&[&[add("b"), add("a")], &[]]).had_without("a", "b"));
    assert!(!steps(&[&[add("b")], &[add("a")]]).had_without("a", "b"), "the other one was first");
    assert!(!steps(&[&[]]).had_without("first", "first"));
}

#[test]
fn a_history_that_does_not_add_up_says_where() {
    let says = |text: String, words: &str| {
        let problem = History::parse(&text).unwrap_err().to_string();
        assert!(problem.contains(words), "{problem}");
    };
    let json = history().to_json();
    assert!(json.find("\"newest\"").unwrap() < json.find("\"versions\"").unwrap());
    says(
        json.replace("\"versions\"", "<<<<<<< ours\n\"versions\"").replace("<<<<<<< ours", "\n<<<<<<< ours"),
        "is the mark of a conflict",
    );
    says(json.replacen("\"by\"", "\"wt\"", 1), "step 1 of version 2 (add column `piece.wt`");
    says(
        json.replacen("\"newest\": 2", "\"newest\": 3", 1),
        "its newest version is 3, but the versions listed are [2, 1]",
    );
    says(json.replacen("\"type\": \"text\"", "\"type\": \"bytes\"", 1), "lead to a structure with the fingerprint");
    says(json.replacen("\"step\": \"code\"", "\"step\": \"cod\"", 1), "unknown variant `cod`");
    says(json.replacen("\"released\": true", "\"realeased\": true", 1), "unknown field `realeased`");
    let mut twice = history();
    let mut other = twice.versions[0].clone();
    other.steps.remove(0);
    twice.versions.insert(0, other);
    says(
        twice.to_json(),
        "version 2 is there twice: one begins with “run the app's code `name_potters`”, the other with “add column `piece.by`",
    );
}

/// The same structure in the order of names: a column that was added later stands last in its file.
fn in_order(structure: &Structure) -> Structure {
    let mut structure = structure.clone();
    structure.tables.sort_by(|a, b| a.name.cmp(&b.name));
    for table in &mut structure.tables {
        table.columns.sort_by(|a, b| a.name.cmp(&b.name));
        table.indexes.sort_by(|a, b| a.columns.cmp(&b.columns));
    }
    structure
}

/// A field as a developer has it: what it says may be left from earlier versions.
#[derive(Clone, Debug)]
struct Field {
    id: u32,
    name: String,
    wide: bool,
    was: Option<String>,
    is_new: bool,
    fill: Option<String>,
    /// What its values have gone through.
    went_through: Vec<String>,
}

impl Field {
    fn column(&self) -> ColumnDefinition {
        column(&self.name, if self.wide { Kind::I64 } else { Kind::U32 }, true)
    }

    fn hint(&self) -> Hint {
        let leaked = |text: &Option<String>| text.clone().map(|text| &*text.leak());
        let was = leaked(&self.was).map(Origin::Was);
        Hint {
            column: self.name.clone().leak(),
            origin: was.or(self.is_new.then_some(Origin::New)),
            fill: leaked(&self.fill),
        }
    }
}

proptest! {
    /// Answers stay on the fields, as the docs allow. What the values of each field have gone through is kept in plain lists.
    #[test]
    fn values_go_through_each_answer_once_and_never_through_that_of_another_change(
        versions in prop::collection::vec(prop::collection::vec((0..6_u8, 0..4_usize), 1..5), 1..6),
    ) {
        let field = |id: u32, name: &str| Field { id, name: name.into(), wide: false, was: None, is_new: false, fill: None, went_through: vec![] };
        let mut fields = vec![field(1_000, "a"), field(1_001, "b")];
        let studio_of = |fields: &[Field]| studio(fields.iter().map(Field::column).collect());
        let mut history = History::start("kilnbook", &studio_of(&fields));
        history.versions[0].released = true;
        let mut stored: Vec<(String, Vec<String>)> = fields.iter().map(|f| (f.name.clone(), vec![])).collect();
        let mut fresh = 0;
        for ops in versions {
            let mut expect_question = None;
            let before = fields.clone();
            for (op, at) in ops {
                fresh += 1;
                let at = at % fields.len().max(1);
                if op == 5 && fields.len() > 1 {
                    fields.remove(at);
                    continue;
                }
                match (op, fields.get_mut(at)) {
                    (0 | 1, Some(f)) if before.iter().any(|b| b.id == f.id && b.name == f.name) => {
                        // Renamed, or renamed with its former name taken by a new field.
                        let former = std::mem::replace(&mut f.name, format!("n{fresh}"));
                        (f.was, f.is_new) = (Some(former.clone()), false);
                        if op == 1 {
                            fields.push(Field { is_new: true, ..field(fresh, &former) });
                        }
                    }
                    (2, Some(f)) if before.iter().any(|b| b.id == f.id && b.wide == f.wide) && f.fill.is_none() => {
                        (f.wide, f.fill) = (!f.wide, Some(format!("f{fresh}")));
                        f.went_through.push(format!("f{fresh}"));
                    }
                    // Widened, with whatever is left on it.
                    (3, Some(f)) if before.iter().any(|b| b.id == f.id && !b.wide) && !f.wide => {
                        f.wide = true;
                        if f.fill.is_some() {
                            expect_question = Some(at);
                        }
                    }
                    (4, _) => fields.push(Field { is_new: true, ..field(fresh, &format!("n{fresh}")) }),
                    _ => {}
                }
                if expect_question.is_some() {
                    break;
                }
            }
            // Whoever puts another field in the place of one that goes, under its name, has to do so in two versions.
            let takes_place = |f: &Field| {
                let former = before.iter().find(|b| b.name == f.name && b.id != f.id);
                former.is_some_and(|former| !fields.iter().any(|other| other.id == former.id))
            };
            if fields.iter().any(takes_place) {
                fields = before;
                continue;
            }
            let to = studio_of(&fields);
            let base = history.structure(history.newest).unwrap();
            let drafted = |fields: &[Field]| {
                let hints: Vec<Hint> = fields.iter().map(Field::hint).collect();
                draft(&base, &to, &[("piece", Hints { table: None, columns: hints.leak() })], history.unreleased(), &history.earlier())
            };
            let mut found = drafted(&fields);
            if let Some(at) = expect_question {
                prop_assert!(found.questions.iter().any(|q| q.contains("an earlier version recorded and ran")), "{:?}", found.questions);
                fields[at].fill = None;
                found = drafted(&fields);
            }
            prop_assert_eq!(&found.questions, &[""; 0]);
            history = history.recorded(&to, found.clone(), &[]);
            history.versions[0].released = true;
            for step in &found.changes {
                match step {
                    Step::RenameColumn { column, to, .. } => stored.iter_mut().find(|s| s.0 == *column).unwrap().0.clone_from(to),
                    Step::AddColumn { column, fill, .. } => stored.push((column.name.clone(), fill.iter().cloned().collect())),
                    Step::ChangeColumn { column, fill, .. } => {
                        stored.iter_mut().find(|s| s.0 == column.name).unwrap().1.extend(fill.clone());
                    }
                    Step::DropColumn { column, .. } => stored.retain(|s| s.0 != *column),
                    _ => {}
                }
            }
            let sorted = |mut all: Vec<(String, Vec<String>)>| { all.sort(); all };
            let expected = fields.iter().map(|f| (f.name.clone(), f.went_through.clone())).collect();
            prop_assert_eq!(sorted(stored.clone()), sorted(expected));
        }
    }
}

#[test]
fn an_answer_that_cannot_be_true_is_a_question_with_the_names_that_exist() {
    const HINTS: Hints = Hints {
        table: Some(Origin::Was("pott")),
        columns: &[
            Hint { column: "grams", origin: Some(Origin::Was("gram")), fill: None },
            Hint { column: "notes", origin: Some(Origin::Was("mark")), fill: None },
        ],
    };
    let before = studio(vec![column("mark", Kind::Text, false), column("wt", Kind::U32, true)]);
    let after = studio(vec![
        column("mark", Kind::Text, false),
        column("grams", Kind::U32, true),
        column("notes", Kind::Text, true),
    ]);
    let asked = draft(&before, &after, &[("piece", HINTS)], &[], &[]).questions.join("\n");
    for said in [
        "the table `piece` says that it was `pott`, but there is no table `pott` before: there are `piece`. Correct `was` on its struct",
        "`piece.grams` says that it was `gram`, but there is no column `gram` before: there are `mark`, `wt`. Correct `was` on the field",
        "`piece.notes` says that it was `mark`, but `mark` is declared too. If `mark` is something new now, write #[record(new)] there",
    ] {
        assert!(asked.contains(said), "{said} is missing in:\n{asked}");
    }
}
