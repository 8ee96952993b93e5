use velvet_drawer::{Key, Record};

#[derive(Record)]
#[record(shared)]
struct Member {
    #[record(own_key, ignore_case, fallback)]
    address: String,
    #[record(ignore_case)]
    name: String,
}

#[derive(Record)]
#[record(unique(mark, shlef), indexed(mark))]
struct Piece {
    #[record(uniqe, nmae = "x")]
    mark: String,
    #[record(own_key, unique)]
    number: u32,
    #[record(own_key, private)]
    second: u32,
    #[record(unique, indexed)]
    name: String,
    #[record(skip, indexed)]
    cache: u8,
    #[record(name = "a.b")]
    shelf: String,
    #[record(name = 3)]
    other: String,
    #[record(link(on_delete = cascade))]
    glaze: Option<Key<Piece>>,
    #[record(link)]
    again: Option<Key<Piece>>,
    key: u64,
    velvet_color: String,
    #[record(name = "SHELF2")]
    one: u8,
    #[record(name = "shelf2")]
    two: u8,
}

fn main() {}
