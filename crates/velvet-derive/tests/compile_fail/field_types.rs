use velvet_drawer::{Choice, Key, Record};

struct Place {
    x: f32,
}

#[derive(Record)]
struct Piece {
    mark: String,
    place: Place,
    tags: Vec<String>,
    maybe: Option<Option<u8>>,
}

#[derive(Choice)]
enum Clay {
    White,
}

#[derive(Record)]
struct Glaze {
    #[record(own_key)]
    name: String,
    #[record(link(on_delete = clear))]
    piece: Key<Glaze>,
    #[record(link(on_delete = remove))]
    number: u32,
    #[record(default = "red")]
    clay: Clay,
}

fn main() {}
