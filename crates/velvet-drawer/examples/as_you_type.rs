//! A box that suggests while somebody types, and finds when they have.
//!
//! `cargo run --example as_you_type`

use velvet_drawer::{Drawer, Error, Record, Schema};

#[derive(Record)]
struct Glaze {
    #[record(own_key, searchable(weight = 4))]
    name: String,
    #[record(searchable)]
    notes: String,
    cone: u8,
}

fn main() -> Result<(), Error> {
    let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    let glazes = [
        ("Cobalt blue", "Matte when it cools slowly, bright where it breaks", 6),
        ("Matt white over cobalt", "Two coats, or it runs", 9),
        ("Céladon", "Pools in carving; iron-bearing clay turns it grey", 10),
        ("Tenmoku", "Breaks to rust on edges; thin over cobalt slip", 10),
        ("Acobitte", "A trial. Never again", 6),
    ];
    drawer.insert_all(glazes.map(|(name, notes, cone)| Glaze { name: name.into(), notes: notes.into(), cone }))?;

    let glazes = || drawer.records::<Glaze>();
    // When the box is shown: nothing is suggested, and the texts are at hand for the first letter.
    glazes().suggest(|g| g.name, "", 5)?;
    for typed in ["c", "co", "cob", "cel", "\"*("] {
        let suggested = glazes().suggest(|g| g.name, typed, 5)?;
        let shown: Vec<String> = suggested.iter().map(|s| s.to_string()).collect();
        println!("{typed:>4}  {}", if shown.is_empty() { "–".into() } else { shown.join(" · ") });
    }

    for typed in ["cobalt", "cobalt m", "celadon", "iron AND (grey"] {
        println!("\nSearch for: {typed}");
        for hit in glazes().search(typed).limit(3).collect()? {
            println!("  {:<22} {}", hit.name, hit.marked().wrapped("»", "«"));
        }
    }
    let hot = glazes().filter(|g| g.cone.at_least(9)).search("cobalt");
    println!("\nFor a hot kiln: {} of {}", hot.count()?, glazes().search("cobalt").count()?);
    Ok(())
}
