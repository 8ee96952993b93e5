//! Edits: one way to save for new and stored records, and nothing that was typed or stored in between is lost.

use crate::common;
use common::{Piece, Stage, memory, piece};
use velvet_drawer::{Edit, Error, Stored};

fn grams_and_remarks(piece: &Piece) -> (Option<u32>, &str) {
    (piece.grams, &piece.remarks)
}

#[test]
fn the_same_call_saves_a_new_record_and_an_edited_one_and_dropping_discards() {
    let drawer = memory();
    let mut edit = Edit::new(piece("K-1"));
    assert!(edit.is_new() && edit.key().is_none());
    edit.remarks = "typed".into();
    let bowl = drawer.save(edit).unwrap();
    assert_eq!(drawer.get(bowl.key()).unwrap().unwrap().remarks, "typed");

    let mut edit = bowl.edit();
    assert!(!edit.is_new() && edit.edited().is_empty());
    edit.grams = None;
    edit.stage = Stage::Bisque;
    assert_eq!(edit.edited(), ["stage", "grams"]);
    let saved = drawer.save(edit).unwrap();
    assert_eq!((saved.key(), saved.stage, saved.grams), (bowl.key(), Stage::Bisque, None));
    assert_eq!(drawer.get(bowl.key()).unwrap(), Some(saved.clone()));

    let mut discarded = saved.edit();
    discarded.remarks = "never mind".into();
    drop(discarded);
    assert_eq!(drawer.get(bowl.key()).unwrap(), Some(saved.clone()));
    // In a transaction with the rest, or not at all.
    let given_up = drawer.write(|tx| {
        let mut edit = saved.edit();
        edit.remarks = "half".into();
        tx.save(edit)?;
        Err::<(), _>(Error::own("given up"))
    });
    assert!(given_up.unwrap_err().is_own());
    assert_eq!(drawer.get(bowl.key()).unwrap(), Some(saved));
}

#[test]
fn a_record_that_changed_meanwhile_is_not_overwritten_and_both_versions_are_at_hand() {
    let drawer = memory();
    let bowl = drawer.insert(piece("K-1")).unwrap();
    let edited = || {
        let mut edit = Edit::of(bowl.clone());
        edit.remarks = "mine".into();
        edit
    };
    drawer.change(bowl.key(), |p| p.grams = Some(1)).unwrap();
    let unsaved = drawer.save(edited()).unwrap_err();
    assert!(unsaved.error().is_changed_meanwhile());
    assert!(
        unsaved
            .to_string()
            .starts_with("cannot save piece 1: it was changed meanwhile, in grams. Nothing was written. "),
        "{unsaved}"
    );
    assert_eq!(grams_and_remarks(unsaved.edit()), (Some(640), "mine"));
    assert_eq!(unsaved.theirs().map(|t| grams_and_remarks(t)), Some((Some(1), "")));
    let (mine, theirs) = unsaved.into_parts();
    let merged = drawer.save(mine.on_top_of(&theirs.unwrap())).unwrap();
    assert_eq!(grams_and_remarks(&merged), (Some(1), "mine"));

    // What is stored now may change once more before it is saved on top.
    drawer.change(bowl.key(), |p| p.remarks = "theirs".into()).unwrap();
    let (mine, theirs) = drawer.save(edited()).unwrap_err().into_parts();
    let theirs: Stored<Piece> = theirs.unwrap();
    drawer.change(bowl.key(), |p| p.grams = Some(2)).unwrap();
    let (mine, theirs) = drawer.save(mine.in_place_of(&theirs)).unwrap_err().into_parts();
    let replaced = drawer.save(mine.in_place_of(&theirs.unwrap())).unwrap();
    assert_eq!(grams_and_remarks(&replaced), (Some(640), "mine"));

    // The same value written again is no change; a removal is.
    drawer.change(bowl.key(), |p| p.remarks = "mine".into()).unwrap();
    let mut again = replaced.edit();
    again.stage = Stage::Glazed;
    drawer.save(again).unwrap();
    let edit = edited();
    drawer.remove(bowl.key()).unwrap();
    let unsaved = drawer.save(edit).unwrap_err();
    assert!(unsaved.error().is_changed_meanwhile() && unsaved.theirs().is_none(), "{unsaved}");
    let saved = drawer.save(unsaved.into_parts().0.as_new()).unwrap();
    assert!(saved.key() != bowl.key() && saved.remarks == "mine");
}

#[test]
fn a_draft_that_is_refused_comes_back_with_the_reason() {
    let drawer = memory();
    let first = drawer.insert(piece("K-1")).unwrap();
    let mut edit = Edit::new(piece("K-1"));
    edit.remarks = "long text that took an hour".into();
    let unsaved = drawer.save(edit).unwrap_err();
    assert!(unsaved.error().is_clash(), "{unsaved}");
    let (mut edit, _) = unsaved.into_parts();
    edit.mark = "K-2".into();
    let second = drawer.save(edit).unwrap();
    let mut edit = second.edit();
    edit.mark = first.mark.clone();
    assert!(drawer.save(edit).unwrap_err().error().is_clash());
    assert_eq!(drawer.get(second.key()).unwrap().unwrap().remarks, "long text that took an hour");
}
