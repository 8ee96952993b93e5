//! Linked records: conditions on what is linked, three levels loaded together, and many to many.
//!
//! `cargo run --example linked_records`

use velvet_drawer::{Drawer, Error, Key, Record, Schema};

#[derive(Record, Debug)]
struct Firing {
    kiln: String,
    degrees: u32,
}

#[derive(Record, Debug)]
struct Piece {
    #[record(own_key)]
    mark: String,
    grams: u32,
    #[record(link(on_delete = clear))]
    firing: Option<Key<Firing>>,
    glaze: Key<Glaze>,
}

#[derive(Record, Debug)]
struct Photo {
    #[record(link(on_delete = remove))]
    piece: Key<Piece>,
    side: String,
}

#[derive(Record, Debug)]
struct Glaze {
    #[record(own_key)]
    name: String,
}

#[derive(Record, Debug)]
struct Material {
    #[record(own_key)]
    name: String,
}

/// What a glaze is made of: it links the two, and says how much.
#[derive(Record, Debug)]
#[record(unique(glaze, material))]
struct Part {
    #[record(link(on_delete = remove))]
    glaze: Key<Glaze>,
    material: Key<Material>,
    percent: u32,
}

fn main() -> Result<(), Error> {
    let schema = Schema::new("kilnbook").record::<Firing>().record::<Piece>().record::<Photo>();
    let drawer = Drawer::in_memory(schema.record::<Glaze>().record::<Material>().record::<Part>())?;
    fill(&drawer)?;

    println!("Firings, the pieces in each, and the photos of each piece (four statements, however many there are):");
    let firings = drawer
        .records::<Firing>()
        .with(|f| f.linked_from::<Piece>(|p| p.firing).with(|p| (p.glaze, p.linked_from::<Photo>(|ph| ph.piece))))
        .collect()?;
    for (firing, pieces) in &firings {
        println!("  {} at {} °C", firing.kiln, firing.degrees);
        for (piece, (glaze, photos)) in pieces {
            let sides: Vec<&str> = photos.iter().map(|ph| ph.side.as_str()).collect();
            println!(
                "    {}, {}: {}",
                piece.mark,
                glaze.name,
                if sides.is_empty() { "–".into() } else { sides.join(", ") }
            );
        }
    }

    println!("Glazes and what they are made of:");
    let glazes = drawer
        .records::<Glaze>()
        .with(|g| g.linked_from::<Part>(|p| p.glaze).sort_by(|p| p.percent.descending()).with(|p| p.material))
        .collect()?;
    for (glaze, parts) in &glazes {
        let parts: Vec<String> = parts.iter().map(|(part, m)| format!("{} % {}", part.percent, m.name)).collect();
        println!("  {}: {}", glaze.name, parts.join(", "));
    }

    let hot = drawer.records::<Piece>().filter(|p| p.firing.which(|f| f.degrees.at_least(1_250)));
    println!("Fired hot: {}", hot.only(|p| p.mark).collect()?.join(", "));
    let with_iron = drawer.records::<Piece>().filter(|p| {
        p.glaze.which(|g| g.linked_from::<Part>(|p| p.glaze).filter(|p| p.material.which(|m| m.name.is("iron"))).any())
    });
    println!("With iron in the glaze: {}", with_iron.only(|p| p.mark).collect()?.join(", "));
    let without = drawer.records::<Piece>().filter(|p| !p.linked_from::<Photo>(|ph| ph.piece).any());
    println!("Without a photo: {}", without.only(|p| p.mark).collect()?.join(", "));

    println!("Pieces by the name of their glaze, and how many photos each has:");
    let lines = drawer
        .records::<Piece>()
        .sort_by(|p| p.glaze.its(|g| g.name).ascending())
        .only(|p| (p.glaze.its(|g| g.name), p.mark, p.linked_from::<Photo>(|ph| ph.piece).count()));
    for (glaze, mark, photos) in lines.collect()? {
        println!("  {}  {mark}  {photos}", glaze.unwrap_or_default());
    }
    let heaviest = drawer
        .records::<Glaze>()
        .sort_by(|g| g.linked_from::<Piece>(|p| p.glaze).make(|all| all.sum(|p| p.grams)).descending())
        .first()?;
    println!("On most clay: {}", heaviest.map_or_else(|| "–".into(), |g| g.name.clone()));
    Ok(())
}

fn fill(drawer: &Drawer) -> Result<(), Error> {
    drawer.write(|tx| {
        let firings = tx.insert_all(
            [("gas", 1_280), ("electric", 1_060)].map(|(kiln, degrees)| Firing { kiln: kiln.into(), degrees }),
        )?;
        let glazes = tx.insert_all(["Tenmoku", "Celadon"].map(|name| Glaze { name: name.into() }))?;
        let materials = tx.insert_all(["silica", "feldspar", "iron"].map(|name| Material { name: name.into() }))?;
        for (glaze, material, percent) in [(0, 0, 25), (0, 1, 65), (0, 2, 10), (1, 0, 40), (1, 1, 60)] {
            tx.insert(Part { glaze: glazes[glaze].key(), material: materials[material].key(), percent })?;
        }
        for (n, (firing, glaze)) in [(Some(0), 0), (Some(0), 1), (Some(1), 1), (None, 0)].into_iter().enumerate() {
            let piece = tx.insert(Piece {
                mark: format!("K-10{n}"),
                grams: 400 + 90 * n as u32,
                firing: firing.map(|at: usize| firings[at].key()),
                glaze: glazes[glaze].key(),
            })?;
            for side in ["front", "foot"].iter().take(2 - n.min(2)) {
                tx.insert(Photo { piece: piece.key(), side: (*side).into() })?;
            }
        }
        Ok(())
    })
}
