//! A form behind which stands an edit: the same save for a new record and an edited one, and nothing that was typed is lost.
//!
//! `cargo run --example form_with_edit`

use velvet_drawer::{Drawer, Edit, Error, Record, Schema, Stored};

#[derive(Record, Clone, Debug)]
struct Piece {
    #[record(own_key)]
    mark: String,
    grams: Option<u32>,
    remarks: String,
}

/// What the form's button does.
fn save(drawer: &Drawer, edit: Edit<Piece>) -> Result<Stored<Piece>, Error> {
    match drawer.save(edit) {
        Ok(stored) => {
            println!("Saved: {} with {:?} g, “{}”", stored.mark, stored.grams, stored.remarks);
            Ok(stored)
        }
        Err(unsaved) if unsaved.error().is_changed_meanwhile() => {
            println!("Not saved: {}", unsaved.error());
            let (mine, theirs) = unsaved.into_parts();
            match theirs {
                // Here the app would show both; this one keeps what others changed where the user did not.
                Some(theirs) => save(drawer, mine.on_top_of(&theirs)),
                None => save(drawer, mine.as_new()),
            }
        }
        Err(unsaved) => {
            println!("Not saved: {}", unsaved.error());
            let (mut mine, _) = unsaved.into_parts();
            // The form is still there, with everything in it; the user types another mark.
            mine.mark.push_str("-b");
            save(drawer, mine)
        }
    }
}

fn main() -> Result<(), Error> {
    let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;

    let mut form = Edit::new(Piece { mark: "K-101".into(), grams: None, remarks: String::new() });
    form.remarks = "thrown off the hump".into();
    let bowl = save(&drawer, form)?;

    let mut form = bowl.edit();
    form.grams = Some(640);
    println!("Edited: {}", form.edited().join(", "));
    let bowl = save(&drawer, form)?;

    let mut discarded = bowl.edit();
    discarded.remarks = "never mind".into();
    drop(discarded);

    let mut form = bowl.edit();
    form.remarks = "for the market".into();
    drawer.change(bowl.key(), |p| p.grams = Some(590))?; // A sync, meanwhile.
    let bowl = save(&drawer, form)?;

    let mut form = bowl.edit();
    form.remarks = "sold".into();
    drawer.remove(bowl.key())?;
    save(&drawer, form)?;

    save(&drawer, Edit::new(Piece { mark: "K-101".into(), grams: None, remarks: "the same mark again".into() }))?;
    Ok(())
}
