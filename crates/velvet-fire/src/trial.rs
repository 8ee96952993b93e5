//! One trial: its rounds, its seed, and what it found.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// How long a trial goes on.
#[derive(Clone, Copy)]
pub(crate) enum Rounds {
    Count(u64),
    Time(Duration),
}

/// How many findings are told; the rest are counted.
const MOST_TOLD: usize = 20;

/// One trial.
pub(crate) struct Trial {
    name: String,
    rounds: Rounds,
    seed: u64,
    begun: Instant,
    done: u64,
    found: usize,
    counts: BTreeMap<&'static str, u64>,
}

impl Trial {
    pub(crate) fn new(name: &str, rounds: Rounds, seed: u64) -> Trial {
        println!("{name}: seed {seed}");
        let (begun, counts) = (Instant::now(), BTreeMap::new());
        Trial { name: name.to_owned(), rounds, seed, begun, done: 0, found: 0, counts }
    }

    /// Chance for the next round, as long as there is one. Each round has its own, so that one can be run again alone.
    pub(crate) fn next(&mut self) -> Option<fastrand::Rng> {
        let goes_on = match self.rounds {
            Rounds::Count(count) => self.done < count,
            Rounds::Time(time) => self.begun.elapsed() < time,
        };
        self.done += u64::from(goes_on);
        goes_on.then(|| fastrand::Rng::with_seed(self.seed.wrapping_add(self.done)))
    }

    /// How far along it is, from 0 to 1.
    pub(crate) fn rounds(&self) -> Rounds {
        self.rounds
    }

    /// Counts something.
    pub(crate) fn count(&mut self, what: &'static str, more: u64) {
        *self.counts.entry(what).or_default() += more;
    }

    /// Takes the most of something.
    pub(crate) fn most(&mut self, what: &'static str, value: u64) {
        let most = self.counts.entry(what).or_default();
        *most = value.max(*most);
    }

    /// Tells what did not hold.
    pub(crate) fn found(&mut self, what: impl AsRef<str>) {
        self.found += 1;
        if self.found <= MOST_TOLD {
            let seed = self.seed.wrapping_add(self.done - 1);
            println!(
                "{}: did not hold in round {} (--rounds 1 --seed {seed}): {}",
                self.name,
                self.done,
                what.as_ref()
            );
        }
    }

    /// Tells how it went, and says whether all held.
    pub(crate) fn end(self) -> bool {
        let Trial { name, seed, begun, done, found, counts, .. } = self;
        let counts: Vec<String> = counts.iter().map(|(what, count)| format!("{count} {what}")).collect();
        let seconds = begun.elapsed().as_secs();
        println!("{name}: {done} rounds in {seconds} s, seed {seed}: {}; {found} did not hold", counts.join(", "));
        found == 0
    }
}

/// Tells panics in one line each; they are findings.
pub(crate) fn quietly() {
    std::panic::set_hook(Box::new(|panic| println!("{}", panic.to_string().replace('\n', " "))));
}
