//! Devices that exchange what changed: many exports in one input, in any order, with rings, next to lines that are refused.

use crate::trial::Trial;
use std::collections::{BTreeMap, BTreeSet};
use velvet_drawer::{Applied, Drawer, Error, Key, Position, Record, Schema};

/// A record that links to nothing: its newest line decides.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Note {
    #[record(own_key)]
    number: u32,
    text: String,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Glaze {
    #[record(own_key)]
    name: String,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Piece {
    #[record(own_key)]
    mark: String,
    grams: u32,
    #[record(link(on_delete = clear))]
    glaze: Option<Key<Glaze>>,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Photo {
    #[record(own_key)]
    id: u32,
    piece: Key<Piece>,
    #[record(link(on_delete = clear))]
    beside: Option<Key<Piece>>,
}

/// May follow another, or itself.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Step {
    #[record(own_key)]
    name: String,
    after: Option<Key<Step>>,
}

/// Must link to another, or to itself.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Bound {
    #[record(own_key)]
    name: String,
    to: Key<Bound>,
    step: Key<Step>,
}

fn memory() -> Drawer {
    let schema = Schema::new("fire").record::<Note>().record::<Glaze>().record::<Piece>().record::<Photo>();
    Drawer::in_memory(schema.record::<Step>().record::<Bound>()).expect("a drawer in memory")
}

pub(crate) fn run(trial: &mut Trial) {
    while let Some(mut chance) = trial.next() {
        let told = match chance.u8(..3) {
            0 => joined(trial, &mut chance),
            1 => two_phones(trial, &mut chance, true),
            _ => two_phones(trial, &mut chance, false),
        };
        if let Err(what) = told {
            trial.found(what);
        }
    }
}

fn told(error: impl std::fmt::Display) -> String {
    error.to_string()
}

/// One edit; some are refused, which is as well.
fn edit(drawer: &Drawer, chance: &mut fastrand::Rng, removes: bool) -> Result<(), Error> {
    let (n, m) = (chance.u32(..4), chance.u32(..4));
    let (mark, name) = (format!("K-{n}"), format!("s{n}"));
    let piece = drawer.get_by_own_key::<Piece>(&mark)?;
    let glaze = drawer.get_by_own_key::<Glaze>(&format!("g{m}"))?.map(|glaze| glaze.key());
    let step = drawer.get_by_own_key::<Step>(&name)?;
    let [own, to] = [n, m].map(|n| drawer.get_by_own_key::<Bound>(&format!("b{n}")));
    let (own, to) = (own?, to?);
    match chance.u8(..if removes { 15 } else { 10 }) {
        0 => drawer.insert_or_replace(Note { number: n, text: chance.u32(..).to_string() }).map(drop),
        1 => drawer.get_or_insert(Piece { mark, grams: m, glaze }).map(drop),
        2 => piece.map_or(Ok(()), |p| drawer.change(p.key(), |p| (p.grams, p.glaze) = (m, glaze)).map(drop)),
        3 => drawer.get_or_insert(Glaze { name: format!("g{m}") }).map(drop),
        4 => {
            let beside = drawer.get_by_own_key::<Piece>(&format!("K-{m}"))?.map(|piece| piece.key());
            piece.map_or(Ok(()), |p| drawer.get_or_insert(Photo { id: m, piece: p.key(), beside }).map(drop))
        }
        5 => drawer.get_or_insert(Step { name, after: None }).map(drop),
        6 => step.map_or(Ok(()), |s| drawer.change(s.key(), |step| step.after = Some(s.key())).map(drop)),
        7 => {
            let after = drawer.get_by_own_key::<Step>(&format!("s{m}"))?.map(|step| step.key());
            step.map_or(Ok(()), |s| drawer.change(s.key(), |step| step.after = after).map(drop))
        }
        8 => match (step, own) {
            (Some(step), None) => {
                let seq = "select coalesce((select seq from sqlite_sequence where name = 'bound'), 0) + 1";
                let next = Key::from_number(drawer.sql(seq).rows::<i64>()?[0]);
                let to = to.map_or(next, |to| to.key());
                drawer.insert(Bound { name: format!("b{n}"), to, step: step.key() }).map(drop)
            }
            _ => Ok(()),
        },
        9 => match (own, to) {
            (Some(own), Some(to)) => drawer.change(own.key(), |b| b.to = to.key()).map(drop),
            _ => Ok(()),
        },
        10 => drawer.get_by_own_key::<Note>(n)?.map_or(Ok(()), |note| drawer.remove(note.key()).map(drop)),
        11 => piece.map_or(Ok(()), |p| drawer.remove(p.key()).map(drop)),
        12 => glaze.map_or(Ok(()), |g| drawer.remove(g).map(drop)),
        13 => own.map_or(Ok(()), |own| drawer.remove(own.key()).map(drop)),
        _ => step.map_or(Ok(()), |step| drawer.remove(step.key()).map(drop)),
    }
}

/// All that a drawer holds, whatever its row numbers are.
fn everything(drawer: &Drawer) -> Result<BTreeSet<String>, Error> {
    let text = "select 'note ' || number || ' ' || text from note
        union all select 'glaze ' || name from glaze
        union all select 'piece ' || mark || ' ' || grams || ' ' || ifnull((select name from glaze where key = piece.glaze), '-') from piece
        union all select 'photo ' || id || ' ' || p.mark || ' ' || ifnull((select mark from piece where key = beside), '-') from photo join piece p on p.key = piece
        union all select 'step ' || name || ' ' || ifnull((select name from step s where s.key = step.after), '-') from step
        union all select 'bound ' || b.name || ' ' || t.name || ' ' || s.name from bound b join bound t on t.key = b.\"to\" join step s on s.key = b.step";
    Ok(drawer.sql(text).rows::<String>()?.into_iter().collect())
}

fn lines(drawer: &Drawer, since: Position) -> Result<(Vec<u8>, Position), Error> {
    let mut lines = Vec::new();
    let upto = drawer.changes_since(since).write_json_lines(&mut lines)?;
    Ok((lines, upto))
}

/// What one device exported, joined and shuffled, comes to what each export alone comes to, and to what the newest line of each note says.
fn joined(trial: &mut Trial, chance: &mut fastrand::Rng) -> Result<(), String> {
    let (from, alone, joined, mixed) = (memory(), memory(), memory(), memory());
    for _ in 0..chance.usize(..5) {
        let seed = chance.u64(..);
        for to in [&alone, &joined, &mixed] {
            let _ = edit(to, &mut fastrand::Rng::with_seed(seed), true);
        }
    }
    // The three were written at different times: they begin with the same changes.
    let mut all = lines(&alone, Position::START).map_err(told)?.0;
    for to in [&joined, &mixed] {
        to.apply_changes(all.as_slice()).theirs_win().run().map_err(told)?;
        all = lines(to, Position::START).map_err(told)?.0;
    }
    let (mut log, mut position) = (Vec::new(), Position::START);
    for _ in 0..chance.usize(1..7) {
        for _ in 0..chance.usize(..7) {
            let _ = edit(&from, chance, true);
        }
        let (exported, upto) = lines(&from, position).map_err(told)?;
        position = upto;
        if alone.apply_changes(exported.as_slice()).run().is_err() {
            // The other device removed, or made, what it needs.
            trial.count("refused alone", 1);
            return Ok(());
        }
        log.extend(exported);
    }
    joined.apply_changes(log.as_slice()).run().map_err(|error| format!("joined: {error}"))?;
    let mut shuffled: Vec<&str> = std::str::from_utf8(&log).map_err(told)?.lines().collect();
    chance.shuffle(&mut shuffled);
    mixed.apply_changes(shuffled.join("\n").as_bytes()).run().map_err(|error| format!("shuffled: {error}"))?;
    let ends = [everything(&alone), everything(&joined), everything(&mixed)];
    let [alone, ends @ ..] = ends;
    let alone = alone.map_err(told)?;
    for (name, end) in ["joined", "shuffled"].iter().zip(ends) {
        let end = end.map_err(told)?;
        if end != alone {
            return Err(format!("one by one {alone:?}, {name} {end:?}"));
        }
    }
    let expected = newest_notes([all.as_slice(), &log])?;
    let notes: BTreeSet<String> = alone.into_iter().filter(|line| line.starts_with("note ")).collect();
    if expected.as_ref().is_some_and(|expected| *expected != notes) {
        return Err(format!("the newest lines say {expected:?}, the device has {notes:?}"));
    }
    let again = joined.apply_changes(log.as_slice()).run().map_err(told)?;
    trial.count("joined exports", 1);
    if (again.written, again.removed) == (0, 0) { Ok(()) } else { Err(format!("applied again: {again:?}")) }
}

/// The notes that the newest lines leave; nothing where two lines are of the same time.
fn newest_notes(inputs: [&[u8]; 2]) -> Result<Option<BTreeSet<String>>, String> {
    let mut newest: BTreeMap<u64, (String, Option<String>)> = BTreeMap::new();
    for line in inputs.iter().flat_map(|lines| lines.split(|byte| *byte == b'\n')).filter(|line| !line.is_empty()) {
        let line: serde_json::Value = serde_json::from_slice(line).map_err(told)?;
        let (Some("note"), Some(number), Some(at)) =
            (line["table"].as_str(), line["own_key"].as_u64(), line["at"].as_str())
        else {
            continue;
        };
        let text = line["columns"]["text"].as_str().map(str::to_owned);
        match newest.get(&number) {
            Some((before, said)) if before.as_str() == at && *said != text => return Ok(None),
            Some((before, _)) if before.as_str() > at => {}
            _ => drop(newest.insert(number, (at.to_owned(), text))),
        }
    }
    let there = newest.into_iter().filter_map(|(number, (_, text))| Some(format!("note {number} {}", text?)));
    Ok(Some(there.collect()))
}

fn send(from: &Drawer, from_name: &str, to: &Drawer, to_name: &str) -> Result<Applied, Error> {
    let (lines, upto) = lines(from, from.sent(to_name)?)?;
    let applied = to.apply_changes(lines.as_slice()).from(from_name).run()?;
    from.mark_sent(to_name, upto)?;
    Ok(applied)
}

/// Two phones that exchange until nothing is told any more hold the same, and what nobody removed is there.
fn two_phones(trial: &mut Trial, chance: &mut fastrand::Rng, removes: bool) -> Result<(), String> {
    let (a, b) = (memory(), memory());
    let mut made = BTreeSet::new();
    for _ in 0..chance.usize(1..5) {
        for _ in 0..chance.usize(..9) {
            let _ = edit(if chance.bool() { &a } else { &b }, chance, removes);
        }
        for drawer in [&a, &b] {
            made.extend(everything(drawer).map_err(told)?.iter().map(|line| known_by(line)));
        }
        send(&a, "a", &b, "b").and_then(|_| send(&b, "b", &a, "a")).map_err(|error| format!("exchange: {error}"))?;
    }
    for _ in 0..4 {
        send(&a, "a", &b, "b").and_then(|_| send(&b, "b", &a, "a")).map_err(|error| format!("going on: {error}"))?;
    }
    let (on_a, on_b) = (everything(&a).map_err(told)?, everything(&b).map_err(told)?);
    if on_a != on_b {
        return Err(format!("one has {on_a:?}, the other {on_b:?}"));
    }
    let last = send(&a, "a", &b, "b").map_err(told)?;
    if (last.written, last.removed) != (0, 0) {
        return Err(format!("it goes round for ever: {last:?}"));
    }
    trial.count("pairs of phones", 1);
    let there: BTreeSet<String> = on_a.iter().map(|line| known_by(line)).collect();
    match made.difference(&there).next() {
        Some(gone) if !removes => Err(format!("nobody removed {gone}, and it is gone")),
        _ => Ok(()),
    }
}

/// The table and the own key of a record.
fn known_by(line: &str) -> String {
    line.split(' ').take(2).collect::<Vec<_>>().join(" ")
}
