use velvet_drawer::{Choice, Drawer, Key, Record};

#[derive(Choice, Clone, Copy)]
enum Stage {
    Thrown,
}

#[derive(Record)]
struct Glaze {
    name: String,
}

#[derive(Record)]
struct Piece {
    mark: String,
    stage: Stage,
    grams: Option<u32>,
    fired: bool,
}

fn wrong_types(drawer: &Drawer, glaze: Key<Glaze>) {
    let _ = drawer.get::<Piece>(glaze);
    let _ = drawer.records::<Piece>().filter(|p| p.mark.is(3));
    let _ = drawer.records::<Piece>().filter(|p| p.grams.is(Some(3)));
    let _ = drawer.records::<Piece>().filter(|p| p.stage.at_least(Stage::Thrown));
    let _ = drawer.records::<Piece>().filter(|p| p.grams.contains("3"));
    let _ = drawer.records::<Piece>().filter(|p| p.mark.is_none());
    let _ = drawer.records::<Piece>().filter(|_| Glaze::columns().name.is("Celadon"));
    let _ = drawer.get_by_own_key::<Glaze>("Celadon");
    let _ = drawer.insert_or_replace(Glaze { name: String::new() });
    let _ = drawer.records::<Piece>().sum(|p| p.mark);
    let _ = drawer.records::<Stage>();
    let _ = drawer.records::<Piece>().update(|p| p.mark = "K-2");
}

fn writing_through_a_view(drawer: &Drawer) {
    let _ = drawer.read(|view| view.insert(Glaze { name: String::new() }));
    let _ = drawer.read(|view| view.records::<Glaze>().remove());
    let _ = drawer.read(|view| view.sql("delete from glaze").run());
}

fn inside_of_a_stored_record(drawer: &Drawer, key: Key<Piece>) {
    drawer.get(key).unwrap().unwrap().fired = true;
}

fn main() {}
