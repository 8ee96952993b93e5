//! A list screen: filters that the user switches on, a sort order that they choose, and pages that follow each other.
//!
//! `cargo run --example list_screen`

use velvet_drawer::{Choice, Condition, Drawer, Error, Order, Record, Schema, Stored};

#[derive(Choice, Clone, Copy, Debug, PartialEq)]
enum Stage {
    Thrown,
    Bisque,
    Glazed,
}

#[derive(Record, Debug)]
struct Piece {
    #[record(own_key)]
    mark: String,
    #[record(indexed)]
    stage: Stage,
    #[record(indexed)]
    grams: Option<u32>,
    remarks: String,
}

/// How many records a page has.
const PAGE: usize = 4;

/// What the user has chosen on the screen.
#[derive(Default)]
struct Chosen {
    stages: Vec<Stage>,
    at_least: Option<u32>,
    words: String,
    by: Sort,
}

#[derive(Default, Clone, Copy)]
enum Sort {
    #[default]
    Mark,
    Heaviest,
    Progress,
}

impl Chosen {
    fn condition(&self, p: <Piece as Record>::Columns) -> Condition<Piece> {
        let mut wanted = Condition::always();
        if !self.stages.is_empty() {
            wanted &= p.stage.one_of(self.stages.iter().copied());
        }
        if let Some(grams) = self.at_least {
            wanted &= p.grams.at_least(grams);
        }
        wanted & Condition::all_of(self.words.split_whitespace().map(|word| p.remarks.contains_ignore_case(word)))
    }

    fn order(&self, p: <Piece as Record>::Columns) -> Order<Piece> {
        match self.by {
            Sort::Mark => p.mark.ascending(),
            Sort::Heaviest => p.grams.descending(),
            Sort::Progress => p.stage.as_declared().reversed(),
        }
    }
}

/// One page: the first, or the one after the last record that is on the screen.
fn page(drawer: &Drawer, chosen: &Chosen, last: Option<&Stored<Piece>>) -> Result<Vec<Stored<Piece>>, Error> {
    let mut pieces = drawer.records::<Piece>().filter(|p| chosen.condition(p)).sort_by(|p| chosen.order(p));
    pieces = pieces.limit(PAGE as u64);
    if let Some(last) = last {
        pieces = pieces.after(last);
    }
    pieces.collect()
}

fn main() -> Result<(), Error> {
    let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    let remarks = ["Thrown off the hump", "For the market", "Lid sits tight"];
    drawer.insert_all((0..18).map(|n: u32| Piece {
        mark: format!("K-{:03}", 100 + n),
        stage: [Stage::Thrown, Stage::Bisque, Stage::Glazed][n as usize % 3],
        grams: (!n.is_multiple_of(5)).then_some(300 + n * 37 % 400),
        remarks: remarks[n as usize % 3].into(),
    }))?;

    let chosen = Chosen {
        stages: vec![Stage::Thrown, Stage::Bisque],
        at_least: Some(350),
        words: "the".into(),
        by: Sort::Heaviest,
    };
    let all = drawer.records::<Piece>().filter(|p| chosen.condition(p)).count()?;
    println!(
        "{all} pieces are thrown or bisque, weigh at least 350 g, and have “the” in their remarks, heaviest first:"
    );
    let mut last = None;
    loop {
        let pieces = page(&drawer, &chosen, last.as_ref())?;
        for p in &pieces {
            println!("  {}  {:>4} g  {:<7}  {}", p.mark, p.grams.unwrap_or(0), format!("{:?}", p.stage), p.remarks);
        }
        let is_last = pieces.len() < PAGE;
        let Some(piece) = pieces.into_iter().last().filter(|_| !is_last) else { break };
        // Removed while it is the last on the screen: the next page still begins after it.
        drawer.remove(piece.key())?;
        println!("  — next page, after {}, which was just sold —", piece.mark);
        last = Some(piece);
    }

    for (name, by) in [("mark", Sort::Mark), ("progress", Sort::Progress)] {
        let first = page(&drawer, &Chosen { by, ..Chosen::default() }, None)?;
        let marks: Vec<&str> = first.iter().map(|p| p.mark.as_str()).collect();
        println!("First by {name}: {}", marks.join(", "));
    }
    let explained = drawer.records::<Piece>().sort_by(|p| p.grams.descending()).limit(4).explain()?;
    println!("How a page is found:\n{explained}");
    Ok(())
}
