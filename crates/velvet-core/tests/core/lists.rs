//! Lists that change a little at a time, against plain lists.

#![allow(clippy::unwrap_used, reason = "what fails here fails a test")]

use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;
use velvet_core::live::{List, Listing, Row, Step};
use velvet_core::query::sort_key::SortKeys;

/// Puts a row with this sort key into the list, takes it out of the plain one and puts it in there too.
fn put(listing: &mut Listing<u32>, plain: &mut BTreeMap<(Vec<u8>, i64), u32>, number: i64, key: u8, value: u32) {
    let held = listing.held(&[number]);
    let key = vec![key, number as u8];
    let row = Row { number, hash: value.into(), key: &key, item: Arc::new(value) };
    match held.get(&number) {
        Some(held) if held.key == key => listing.replace(row),
        held => {
            if let Some(held) = held {
                listing.remove(number, &held.key);
            }
            listing.insert(row);
        }
    }
    plain.retain(|(_, n), _| *n != number);
    plain.insert((key, number), value);
}

fn shown(list: &List<u32>) -> Vec<(i64, u32)> {
    list.numbers().zip(list.iter().copied()).collect()
}

/// Does the steps on a list, as a screen would.
fn done(steps: &[Step], before: &List<u32>, after: &List<u32>) -> Vec<(i64, u32)> {
    let mut screen = shown(before);
    for step in steps {
        match *step {
            Step::Removed { at, number } => assert_eq!(screen.remove(at).0, number),
            Step::Added { at, number } => screen.insert(at, (number, after[at])),
            Step::Moved { from, to, number } => {
                let moved = screen.remove(from);
                assert!(moved.0 == number && from != to);
                screen.insert(to, moved);
            }
            Step::Changed { at, number } => {
                assert_eq!(screen[at].0, number);
                screen[at].1 = after[at];
            }
        }
    }
    screen
}

#[derive(Clone, Debug)]
enum Do {
    Put(i64, u8, u32),
    Remove(i64),
    Look,
    Truncate(usize),
}

fn doing(numbers: i64) -> impl Strategy<Value = Do> {
    prop_oneof![
        8 => (0..numbers, any::<u8>(), any::<u32>()).prop_map(|(n, k, v)| Do::Put(n, k, v)),
        3 => (0..numbers).prop_map(Do::Remove),
        1 => Just(Do::Look),
        1 => (0..2_000_usize).prop_map(Do::Truncate),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 160, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn what_is_held_is_in_order_and_the_steps_lead_from_each_state_to_the_next(
        (begin, doings) in prop_oneof![Just(0_i64), Just(9), Just(1_700)]
            .prop_flat_map(|begin| (Just(begin), prop::collection::vec(doing(begin + 40), 0..90))),
    ) {
        let mut listing = Listing::new(SortKeys::default());
        let mut plain = BTreeMap::new();
        for number in 0..begin {
            let key = [(number / 8) as u8, number as u8];
            listing.push(number, 7, &key, Arc::new(7));
            plain.insert((key.to_vec(), number), 7);
        }
        let mut seen = listing.list().clone();
        let before = shown(&seen);
        for doing in doings.into_iter().chain([Do::Look]) {
            match doing {
                Do::Put(number, key, value) => put(&mut listing, &mut plain, number, key, value),
                Do::Remove(number) => {
                    let held = listing.held(&[number - 1, number]);
                    if let Some(held) = held.get(&number) {
                        prop_assert!(listing.item(number, &held.key).is_some());
                        listing.remove(number, &held.key);
                    }
                    plain.retain(|(_, n), _| *n != number);
                }
                Do::Truncate(length) if length < listing.list().len() => {
                    listing.truncate(length);
                    plain = plain.into_iter().take(length).collect();
                }
                Do::Truncate(_) => {}
                Do::Look => {
                    let now = listing.list().clone();
                    let expected: Vec<(i64, u32)> = plain.iter().map(|((_, n), v)| (*n, *v)).collect();
                    prop_assert_eq!(shown(&now), &expected[..]);
                    prop_assert!((0..now.len()).all(|at| now[at] == expected[at].1) && now.get(now.len()).is_none());
                    let part = now.part(1..7);
                    prop_assert_eq!(shown(&part), expected.iter().skip(1).take(6).copied().collect::<Vec<_>>());
                    let steps = now.steps_since(&seen);
                    prop_assert_eq!(done(&steps, &seen, &now), expected);
                    prop_assert_eq!(steps.is_empty(), now.is_same(&seen));
                    prop_assert_eq!(steps.is_empty(), shown(&now) == shown(&seen));
                    seen = now;
                }
            }
        }
        prop_assert_eq!(before.len(), begin as usize, "a state that was handed out stays as it is");
    }

    #[test]
    fn steps_between_lists_in_any_two_orders_lead_from_one_to_the_other_and_are_few(
        (old, new) in prop::collection::btree_set(0..60_i64, 0..40).prop_flat_map(|all| {
            let all: Vec<i64> = all.into_iter().collect();
            let some = || prop::sample::subsequence(all.clone(), 0..=all.len()).prop_shuffle();
            (some(), some())
        }),
    ) {
        let list = |numbers: &[i64], value: u32| {
            let mut listing = Listing::new(SortKeys::default());
            numbers.iter().for_each(|n| listing.push(*n, value.into(), &[], Arc::new(value)));
            listing.list().clone()
        };
        let (before, after) = (list(&old, 1), list(&new, 2));
        let steps = after.steps_since(&before);
        prop_assert_eq!(done(&steps, &before, &after), shown(&after));
        let kept = new.iter().filter(|n| old.contains(n)).count();
        let moved = steps.iter().filter(|step| matches!(step, Step::Moved { .. })).count();
        prop_assert!(moved <= kept.saturating_sub(1));
        prop_assert_eq!(steps.iter().filter(|step| matches!(step, Step::Changed { .. })).count(), kept);
    }
}
