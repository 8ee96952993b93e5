//! The table of ratios.

use std::fmt;
use std::time::{Duration, Instant};
use velvet_core::exchange::show::{Shown, Tone};
use velvet_drawer::grid::Grid;

/// Lines of work, ours against by hand.
#[derive(Default)]
pub(crate) struct Ratios(Vec<Line>);

struct Line {
    work: String,
    ours: String,
    by_hand: String,
    ratio: Option<f64>,
    goal: String,
    met: Option<bool>,
}

impl Ratios {
    /// A work of ours against the best code by hand, with the ratio that must not be exceeded.
    pub(crate) fn line(&mut self, work: &str, ours: Duration, by_hand: Duration, goal: f64) {
        let ratio = ours.as_secs_f64() / by_hand.as_secs_f64();
        let (goal, met) = (format!("≤ {goal:.2}"), Some(ratio <= goal));
        self.0.push(Line {
            work: work.into(),
            ours: micros(ours),
            by_hand: micros(by_hand),
            ratio: Some(ratio),
            goal,
            met,
        });
    }

    /// A work of ours against the way in which it is usually written; there is no goal for that.
    pub(crate) fn usual(&mut self, work: &str, ours: Duration, usual: Duration) {
        let ratio = Some(ours.as_secs_f64() / usual.as_secs_f64());
        self.0.push(Line {
            work: work.into(),
            ours: micros(ours),
            by_hand: micros(usual),
            ratio,
            goal: "–".into(),
            met: None,
        });
    }

    /// As [`Ratios::line`], in numbers that are no times.
    pub(crate) fn numbers(&mut self, work: &str, ours: u64, by_hand: u64, goal: f64) {
        let ratio = ours as f64 / by_hand as f64;
        let (goal, met) = (format!("≤ {goal:.2}"), Some(ratio <= goal));
        let (ours, by_hand) = (ours.to_string(), by_hand.to_string());
        self.0.push(Line { work: work.into(), ours, by_hand, ratio: Some(ratio), goal, met });
    }

    /// A number of ours that must not be exceeded.
    pub(crate) fn at_most(&mut self, work: &str, ours: u64, most: u64) {
        let (goal, met) = (format!("≤ {most}"), Some(ours <= most));
        self.0.push(Line { work: work.into(), ours: ours.to_string(), by_hand: "–".into(), ratio: None, goal, met });
    }
}

fn micros(took: Duration) -> String {
    format!("{:.1}", took.as_secs_f64() * 1e6)
}

impl fmt::Display for Ratios {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut grid = Grid::new(["work", "ours (µs)", "by hand (µs)", "ratio", "goal", "met"]);
        let cell = |text: &str, tone| Shown { text: text.to_owned(), tone };
        for line in &self.0 {
            grid.row(vec![
                cell(&line.work, Tone::Plain),
                cell(&line.ours, Tone::Number),
                cell(&line.by_hand, Tone::Number),
                cell(&line.ratio.map_or("–".into(), |r| format!("{r:.2}")), Tone::Number),
                cell(&line.goal, Tone::Plain),
                cell(line.met.map_or("", |met| if met { "yes" } else { "no" }), Tone::Plain),
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
