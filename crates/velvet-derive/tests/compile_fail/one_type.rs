use velvet_drawer::Record;

struct Place {
    x: f32,
}

#[derive(Record)]
struct Piece {
    mark: String,
    place: Place,
}

fn main() {}
