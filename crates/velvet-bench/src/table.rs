//! The table of ratios.

use std::fmt;
use std::time::{Duration, Instant};
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::show::{Shown, Tone};

/// Lines of work, ours against by hand.
#[derive(Default)]
pub(crate) struct Table(Vec<Line>);

struct Line {
    work: String,
    ours: Duration,
    by_hand: Duration,
    goal: f64,
}

impl Table {
    /// Adds a line.
    pub(crate) fn line(&mut self, work: &str, ours: Duration, by_hand: Duration, goal: f64) {
        self.0.push(Line { work: work.to_owned(), ours, by_hand, goal });
    }
}

impl fmt::Display for Table {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut grid = Grid::new(["work", "ours (µs)", "by hand (µs)", "ratio", "goal", "met"]);
        let cell = |text: String, tone| Shown { text, tone };
        for line in &self.0 {
            let ratio = line.ours.as_secs_f64() / line.by_hand.as_secs_f64();
            let micros = |d: Duration| cell(format!("{:.1}", d.as_secs_f64() * 1e6), Tone::Number);
            grid.row(vec![
                cell(line.work.clone(), Tone::Plain),
                micros(line.ours),
                micros(line.by_hand),
                cell(format!("{ratio:.2}"), Tone::Number),
                cell(format!("≤ {:.2}", line.goal), Tone::Plain),
                cell(if ratio <= line.goal { "yes" } else { "no" }.into(), Tone::Plain),
            ]);
        }
        grid.fmt(f)
    }
}

/// The medians of two works that are done in turn.
pub(crate) fn in_turn<E>(
    rounds: usize,
    mut ours: impl FnMut() -> Result<Duration, E>,
    mut by_hand: impl FnMut() -> Result<Duration, E>,
) -> Result<(Duration, Duration), E> {
    let (mut first, mut second) = (Vec::new(), Vec::new());
    for _ in 0..rounds {
        first.push(ours()?);
        second.push(by_hand()?);
    }
    Ok((median(first), median(second)))
}

/// How long a work takes.
pub(crate) fn timed<T, E>(work: impl FnOnce() -> Result<T, E>) -> Result<Duration, E> {
    let begun = Instant::now();
    work().map(|_| begun.elapsed())
}

fn median(mut all: Vec<Duration>) -> Duration {
    all.sort();
    all[all.len() / 2]
}
