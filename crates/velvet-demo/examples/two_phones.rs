//! Two phones of the studio that exchange their changes through a file, and end with the same records.
//!
//! `cargo run -p velvet-demo --example two_phones`

use std::error::Error;
use std::fs::{self, File};
use std::io::{BufReader, BufWriter, Write};
use std::path::Path;
use velvet_drawer::{Drawer, Key, Record, Schema};
use velvet_phone::Phone;

#[derive(Record, Debug)]
#[record(shared)]
struct Glaze {
    #[record(own_key)]
    name: String,
}

#[derive(Record, Debug)]
#[record(shared)]
struct Piece {
    #[record(own_key)]
    mark: String,
    grams: u32,
    #[record(link(on_delete = clear))]
    glaze: Option<Key<Glaze>>,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Piece>().record::<Glaze>()
}

/// Hands what changed on one phone, since the last time, to the other, through a file.
fn hand_over(from: (&str, &Drawer), to: (&str, &Drawer), file: &Path) -> Result<(), Box<dyn Error>> {
    let mut out = BufWriter::new(File::create(file)?);
    let upto = from.1.changes_since(from.1.sent(to.0)?).write_json_lines(&mut out)?;
    out.flush()?;
    let lines = fs::read_to_string(file)?.lines().count();
    let applied = to.1.apply_changes(BufReader::new(File::open(file)?)).from(from.0).run()?;
    // Only once they have arrived.
    from.1.mark_sent(to.0, upto)?;
    println!(
        "{} → {}: {lines} lines; {} written, {} removed, {} unchanged, {} kept",
        from.0, to.0, applied.written, applied.removed, applied.unchanged, applied.kept
    );
    for (table, key, ours) in applied.conflicts {
        println!(
            "  both changed {table} {key}: {}",
            if ours { "this phone's is newer" } else { "the other's is newer" }
        );
    }
    Ok(())
}

fn show(name: &str, drawer: &Drawer) -> Result<String, velvet_drawer::Error> {
    let pieces = drawer.records::<Piece>().sort_by(|p| p.mark.ascending()).with(|p| p.glaze).collect()?;
    let told: Vec<String> = pieces
        .iter()
        .map(|(p, glaze)| format!("{} {} g {}", p.mark, p.grams, glaze.as_ref().map_or("–", |g| g.name.as_str())))
        .collect();
    println!("{name}: {}", told.join(", "));
    Ok(told.join(", "))
}

fn main() -> Result<(), Box<dyn Error>> {
    let phone = Phone::temporary()?;
    let wheel = Drawer::open(phone.folder().join("wheel.drawer"), schema())?;
    let kiln = Drawer::open(phone.folder().join("kiln.drawer"), schema())?;
    let file = phone.folder().join("changes.jsonl");

    println!("At the wheel, two pieces; at the kiln, a glaze and a piece of its own.");
    let bowl = wheel.insert(Piece { mark: "K-101".into(), grams: 640, glaze: None })?;
    wheel.insert(Piece { mark: "K-102".into(), grams: 300, glaze: None })?;
    let tenmoku = kiln.insert(Glaze { name: "Tenmoku".into() })?;
    kiln.insert(Piece { mark: "K-201".into(), grams: 900, glaze: Some(tenmoku.key()) })?;
    hand_over(("wheel", &wheel), ("kiln", &kiln), &file)?;
    println!("{}", fs::read_to_string(&file)?.lines().next().unwrap_or_default());
    hand_over(("kiln", &kiln), ("wheel", &wheel), &file)?;

    println!("\nBoth go on, apart: they weigh the same bowl, and one removes a piece.");
    wheel.change(bowl.key(), |p| p.grams = 615)?;
    let there = kiln.get_by_own_key::<Piece>("K-101")?.ok_or("the bowl did not arrive")?;
    kiln.change(there.key(), |p| {
        p.grams = 610;
        p.glaze = Some(tenmoku.key());
    })?;
    let gone = kiln.get_by_own_key::<Piece>("K-102")?.ok_or("the second piece did not arrive")?;
    kiln.remove(gone.key())?;
    hand_over(("wheel", &wheel), ("kiln", &kiln), &file)?;
    hand_over(("kiln", &kiln), ("wheel", &wheel), &file)?;

    println!();
    assert_eq!(show("wheel", &wheel)?, show("kiln ", &kiln)?);
    hand_over(("wheel", &wheel), ("kiln", &kiln), &file)?;
    Ok(())
}
