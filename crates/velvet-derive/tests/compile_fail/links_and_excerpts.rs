use velvet_drawer::{Drawer, Excerpt, Key, Record};

#[derive(Record)]
struct Glaze {
    name: String,
}

#[derive(Record)]
struct Piece {
    mark: String,
    grams: Option<u32>,
    glaze: Key<Glaze>,
}

#[derive(Excerpt)]
#[excerpt(of = Piece)]
struct Line {
    mark: String,
    grams: u32,
    colour: String,
}

#[derive(Excerpt)]
struct Loose(u32);

#[derive(Excerpt)]
struct Twice {
    grams: Option<Option<u32>>,
}

#[derive(Excerpt)]
struct Unbound {
    mark: String,
}

fn links(drawer: &Drawer) {
    let _ = drawer.records::<Piece>().filter(|p| p.mark.which(|_| unreachable!()));
    let _ = drawer.records::<Glaze>().filter(|g| g.linked_from::<Piece>(|p| p.mark).any());
    let _ = drawer.records::<Piece>().filter(|p| p.linked_from::<Piece>(|q| q.glaze).any());
    let _ = drawer.records::<Piece>().with(|p| p.mark);
    let _ = drawer.records::<Piece>().filter(|p| p.grams.inside::<u32>("top").is(3));
    let _ = drawer.records::<Piece>().group_by(|p| p.mark).filter(|g| g.sum(|p| p.mark).at_least(3));
}

fn statements(drawer: &Drawer) {
    let _ = drawer.sql("delete from piece").run();
    let _ = drawer.sql("select * from piece").rows::<Piece>();
    let _ = drawer.sql("select :d").bind("d", std::time::Instant::now());
    let _ = drawer.records::<Piece>().only_as::<Unbound>().collect();
}

fn main() {}
