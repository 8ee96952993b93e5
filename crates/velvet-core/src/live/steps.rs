//! What changed between two states of a list, as steps that lead from one to the other.

use super::List;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// What changed of a list, to be done on the list before, one step after the other: then it is the list after.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Step {
    /// The item at this place is no longer there.
    Removed {
        /// Its place.
        at: usize,
        /// The number of its row.
        number: i64,
    },
    /// An item came in, so that it is at this place.
    Added {
        /// Its place.
        at: usize,
        /// The number of its row.
        number: i64,
    },
    /// The item at one place is taken out, and put in so that it is at the other.
    Moved {
        /// Its place before.
        from: usize,
        /// Its place now.
        to: usize,
        /// The number of its row.
        number: i64,
    },
    /// The item at this place has other values.
    Changed {
        /// Its place.
        at: usize,
        /// The number of its row.
        number: i64,
    },
}

/// A part of a list that is looked at whole: chunks that both states share, or one row.
struct Unit {
    /// How many items it has.
    length: usize,
    /// The number and the hash of the row, where it is one.
    row: Option<(i64, u64)>,
    /// How many shared parts come before it.
    segment: usize,
}

impl<R> List<R> {
    /// What changed since another state of this list. What both share is not looked at.
    ///
    /// Removals come first, from the back; then what moved; then, from the front, what came in; and last what changed. So the places of what came in or
    /// changed are places of this list.
    pub fn steps_since(&self, before: &List<R>) -> Vec<Step> {
        if Arc::ptr_eq(&self.chunks, &before.chunks) {
            return Vec::new();
        }
        let shared = shared(before, self);
        let (old, new) = (units(before, &shared), units(self, &shared));
        let known: HashMap<i64, usize> =
            old.iter().enumerate().filter_map(|(at, unit)| Some((unit.row?.0, at))).collect();
        let came_from: Vec<Option<usize>> = came_from(&old, &new, &known);
        let stays = staying(&old, &new, &came_from);
        let (mut places, old_at, new_at) = Places::of(&old, &new, &came_from, &stays);

        let mut steps = Vec::new();
        let remains: HashSet<i64> = new.iter().filter_map(|unit| Some(unit.row?.0)).collect();
        for (unit, at) in old.iter().zip(&old_at).rev() {
            let Some((number, _)) = unit.row.filter(|(number, _)| !remains.contains(number)) else { continue };
            steps.push(Step::Removed { at: places.before(*at), number });
            places.remove(*at);
        }
        for unit in (0..new.len()).filter(|unit| !stays[*unit]) {
            let (Some((number, _)), Some(from)) = (new[unit].row, came_from[unit]) else { continue };
            let was = places.before(old_at[from]);
            places.remove(old_at[from]);
            let to = places.before(new_at[unit]);
            places.put(new_at[unit]);
            steps.push(Step::Moved { from: was, to, number });
        }
        // What was there before is in its order now, so what comes in has its place in the end.
        let (mut at, mut changed) = (0, Vec::new());
        for (unit, from) in new.iter().zip(&came_from) {
            match (unit.row, from) {
                (Some((number, _)), None) => steps.push(Step::Added { at, number }),
                (Some((number, hash)), Some(from)) if old[*from].row.is_some_and(|(_, before)| before != hash) => {
                    changed.push(Step::Changed { at, number });
                }
                _ => {}
            }
            at += unit.length;
        }
        steps.extend(changed);
        steps
    }
}

/// The places of the chunks in the new state that stand in the old one too, in the same order.
fn shared<R>(old: &List<R>, new: &List<R>) -> HashSet<*const ()> {
    let places: HashMap<*const (), usize> =
        old.chunks.iter().enumerate().map(|(at, c)| (Arc::as_ptr(&c.chunk).cast(), at)).collect();
    let mut next = 0;
    let mut shared = HashSet::new();
    for chunk in new.chunks.iter().map(|c| Arc::as_ptr(&c.chunk).cast()) {
        if let Some(at) = places.get(&chunk).filter(|at| **at >= next) {
            shared.insert(chunk);
            next = at + 1;
        }
    }
    shared
}

fn units<R>(list: &List<R>, shared: &HashSet<*const ()>) -> Vec<Unit> {
    let (mut units, mut segment) = (Vec::new(), 0);
    for chunk in list.chunks.iter().map(|c| &c.chunk) {
        if shared.contains(&Arc::as_ptr(chunk).cast()) {
            units.push(Unit { length: chunk.numbers.len(), row: None, segment });
            segment += 1;
        } else {
            let rows = chunk.numbers.iter().copied().zip(chunk.hashes.iter().copied());
            units.extend(rows.map(|row| Unit { length: 1, row: Some(row), segment }));
        }
    }
    units
}

/// For each unit of the new state the one of the old state that is the same row or chunk.
fn came_from(old: &[Unit], new: &[Unit], known: &HashMap<i64, usize>) -> Vec<Option<usize>> {
    let mut runs = old.iter().enumerate().filter(|(_, unit)| unit.row.is_none()).map(|(at, _)| at);
    new.iter().map(|unit| unit.row.map_or_else(|| runs.next(), |(number, _)| known.get(&number).copied())).collect()
}

/// Which units of the new state stay where they are, so that the others are as few as can be: the longest run of them that was in this order before.
fn staying(old: &[Unit], new: &[Unit], came_from: &[Option<usize>]) -> Vec<bool> {
    let mut stays = vec![false; new.len()];
    let mut begin = 0;
    while begin < new.len() {
        let segment = new[begin].segment;
        let length = new[begin..].iter().take_while(|unit| unit.segment == segment).count();
        // The last unit of each segment but the last is a shared chunk.
        let mut ends: Vec<usize> = Vec::new();
        let mut previous = vec![usize::MAX; length];
        let from = |at: usize| came_from[begin + at].unwrap_or_default();
        for at in 0..length {
            let unit = &new[begin + at];
            match came_from[begin + at] {
                _ if unit.row.is_none() => stays[begin + at] = true,
                Some(was) if old[was].segment == segment => {
                    let place = ends.partition_point(|end| from(*end) < was);
                    previous[at] = if place == 0 { usize::MAX } else { ends[place - 1] };
                    if place == ends.len() { ends.push(at) } else { ends[place] = at }
                }
                _ => {}
            }
        }
        let mut next = ends.last().copied().unwrap_or(usize::MAX);
        while next != usize::MAX {
            stays[begin + next] = true;
            next = previous[next];
        }
        begin += length;
    }
    stays
}

/// How many items come before each place, while items are taken out and put in: a tree of sums.
struct Places {
    sums: Vec<usize>,
}

impl Places {
    /// With the old state in it; and the place of each unit of the old state and of the new one. New units stand behind the one that stays before them.
    fn of(old: &[Unit], new: &[Unit], came_from: &[Option<usize>], stays: &[bool]) -> (Places, Vec<usize>, Vec<usize>) {
        let mut behind: Vec<Vec<usize>> = vec![Vec::new(); old.len() + 1];
        let mut anchor = 0;
        for at in 0..new.len() {
            match came_from[at].filter(|_| stays[at]) {
                Some(from) => anchor = from + 1,
                // What comes in is not there while others move.
                None if came_from[at].is_some() => behind[anchor].push(at),
                None => {}
            }
        }
        let (mut old_at, mut new_at, mut next) = (Vec::with_capacity(old.len()), vec![0; new.len()], 0);
        for (at, behind) in behind.iter().enumerate() {
            if at > 0 {
                old_at.push(next);
                next += 1;
            }
            for unit in behind {
                new_at[*unit] = next;
                next += 1;
            }
        }
        for at in (0..new.len()).filter(|at| stays[*at]) {
            new_at[at] = came_from[at].map_or(0, |from| old_at[from]);
        }
        let mut places = Places { sums: vec![0; next + 1] };
        old.iter().zip(&old_at).for_each(|(unit, at)| places.sums[at + 1] = unit.length);
        for at in 1..=next {
            let above = at + (at & at.wrapping_neg());
            if above <= next {
                places.sums[above] += places.sums[at];
            }
        }
        (places, old_at, new_at)
    }

    fn before(&self, at: usize) -> usize {
        let (mut at, mut sum) = (at, 0);
        while at > 0 {
            sum += self.sums[at];
            at &= at - 1;
        }
        sum
    }

    fn put(&mut self, at: usize) {
        self.change(at, |sum| *sum += 1);
    }

    fn remove(&mut self, at: usize) {
        self.change(at, |sum| *sum -= 1);
    }

    fn change(&mut self, at: usize, change: impl Fn(&mut usize)) {
        let mut at = at + 1;
        while at < self.sums.len() {
            change(&mut self.sums[at]);
            at += at & at.wrapping_neg();
        }
    }
}
