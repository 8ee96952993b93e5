use velvet_drawer::{Drawer, Position, Record};

#[derive(Record)]
#[record(shared)]
struct Clay {
    #[record(searchable(weight = 0))]
    name: String,
    #[record(searchable)]
    grams: u32,
    #[record(json, searchable)]
    notes: Vec<String>,
    #[record(searchable(much = 3))]
    rank: String,
}

#[derive(Record)]
struct Wood {
    #[record(searchable)]
    metres: f64,
}

#[derive(Record)]
struct Glaze {
    #[record(own_key)]
    name: String,
}

fn not_declared(drawer: &Drawer) {
    let _ = drawer.records::<Glaze>().search("celadon");
    let _ = drawer.records::<Wood>().suggest(|w| w.metres, "3", 4);
    let _ = drawer.changes_since(Position::START).of::<Glaze>();
    let _ = drawer.refresh([Wood { metres: 1.0 }]);
}

fn main() {}
